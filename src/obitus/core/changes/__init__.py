"""Changes of a release: what commits touched, read from git's own output, and which of them likely brought a failure."""
