"""What is handed out as files: the console, and the client as a wheel."""
