"""Parsing log files: stack traces among log lines, and access logs. Pure: bytes in, findings out."""
