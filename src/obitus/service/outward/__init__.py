"""What the service sends to others: which addresses and commands it may use, how it asks them, and how their secrets are kept."""
