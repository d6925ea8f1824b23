"""Errors while files are read and sent, as exit statuses of a command."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from obitus.cli.errors import NotAllowed, Refused, Unreachable, UsageTrouble


@contextmanager
def sending_said() -> Iterator[None]:
    """Convert errors of reading to the exit status of the command."""
    from obitus.reading.troubles import KeyRefused, ReadingTrouble, SendingRefused, ServiceAway

    try:
        yield
    except ReadingTrouble as error:
        raise UsageTrouble(str(error)) from error
    except KeyRefused as error:
        raise NotAllowed(str(error)) from error
    except SendingRefused as error:
        raise Refused(str(error)) from error
    except ServiceAway as error:
        raise Unreachable(str(error)) from error
