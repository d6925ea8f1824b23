"""Intake of reports: bodies are bounded, lines checked, redacted and fingerprinted, OpenTelemetry's exports too, and
passed to the writer."""
