"""Passing on: records go to the team's other systems as they come, in open formats, in order, from a position kept for each target."""
