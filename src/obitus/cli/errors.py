"""What can go wrong on the command line, and the exit status of each.

CliError 1 a requested condition did not hold
├── UsageTrouble     2  the command cannot be understood
├── Unreachable      3  the service cannot be reached
├── NotAllowed       4  no token, or an invalid one
├── NotFound         5  not found
└── Refused          6  the service refused for another reason
    └── Busy         6  it has no time or no room for this at the moment
"""

from __future__ import annotations


class CliError(Exception):
    """Base of all expected errors: one line, and an exit status."""

    status = 1


class UsageTrouble(CliError):
    """Raised when a command cannot be understood."""

    status = 2


class Unreachable(CliError):
    """Raised when the service does not answer, or another program answers in its place."""

    status = 3


class NotAllowed(CliError):
    """Raised when there is no token, or an invalid one."""

    status = 4


class NotFound(CliError):
    """Raised when the object of the request does not exist."""

    status = 5


class Refused(CliError):
    """Raised when the service refuses."""

    status = 6


class Busy(Refused):
    """Raised when the service refuses what it may do a moment later."""
