"""Reports come in: bodies within their bounds, lines checked, hidden and fingerprinted, OpenTelemetry's exports too, handed to the writer."""
