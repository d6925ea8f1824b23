"""What can go wrong while files are read and reports sent; each says what to do."""

from __future__ import annotations


class ReadingTrouble(Exception):
    """Raised when files cannot be read, or not in the wanted way."""


class SendingTrouble(Exception):
    """Base of what can go wrong while reports are sent."""


class KeyRefused(SendingTrouble):
    """Raised when the service does not know the key, or it may not report."""


class SendingRefused(SendingTrouble):
    """Raised when the service refuses reports for another reason."""


class ServiceAway(SendingTrouble):
    """Raised when the service does not answer after several tries."""
