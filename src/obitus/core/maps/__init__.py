"""Source maps: from a place in built code to the original place in the source."""
