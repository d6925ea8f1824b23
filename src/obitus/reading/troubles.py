"""What can go wrong while files are read and reports sent; each says what to do."""

from __future__ import annotations


class ReadingTrouble(Exception):
    """Raised when files cannot be read, or not as they were asked to be."""


class SendingTrouble(Exception):
    """Base of what can go wrong while reports are sent."""


class KeyNotTaken(SendingTrouble):
    """Raised when the service does not know the key, or it may not report."""


class SendingRefused(SendingTrouble):
    """Raised when the service refuses what is sent for another reason."""


class ServiceAway(SendingTrouble):
    """Raised when the service does not answer, again and again."""
