"""The service: reporting endpoint, API, sign-in, live stream, and the console's files."""
