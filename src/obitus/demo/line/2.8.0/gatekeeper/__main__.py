"""Start the worker: read the configuration, then wait for jobs."""

from gatekeeper import config

settings = config.load(config.FILE)
print("gate", settings.gate, "prints on", settings.printer)
