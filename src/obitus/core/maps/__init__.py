"""Source maps: from a place in code that was built to the place in the source that it came from."""
