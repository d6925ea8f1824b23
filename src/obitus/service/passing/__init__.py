"""Passing on: records are sent to the team's other systems as they come, in open formats, in order, from a position kept for each target."""
