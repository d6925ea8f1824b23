"""Files of the service: the console, and the client as a wheel."""
