"""Source maps in the service: storing them, and mapping frames back."""
