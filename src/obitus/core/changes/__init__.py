"""Changes of a release: what commits touched, from git's own output, and which of them likely caused a failure."""
