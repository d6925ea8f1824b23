"""Records for other systems, written in open formats."""
