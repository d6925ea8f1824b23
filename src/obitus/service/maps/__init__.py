"""Source maps in the service: where they lie, and what is turned back with them."""
