"""Records on their way to other systems: how they are written in open formats."""
