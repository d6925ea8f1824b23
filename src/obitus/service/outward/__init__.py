"""Requests to the outside: allowed addresses and commands, the requests themselves, and the encryption of their secrets."""
