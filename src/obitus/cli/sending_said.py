"""What goes wrong while files are read and sent, as the end of a command."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from obitus.cli.errors import NotAllowed, Refused, Unreachable, UsageTrouble


@contextmanager
def sending_said() -> Iterator[None]:
    """Let what goes wrong while reading end the command, with the status that stands for it."""
    from obitus.reading.troubles import KeyNotTaken, ReadingTrouble, SendingRefused, ServiceAway

    try:
        yield
    except ReadingTrouble as error:
        raise UsageTrouble(str(error)) from error
    except KeyNotTaken as error:
        raise NotAllowed(str(error)) from error
    except SendingRefused as error:
        raise Refused(str(error)) from error
    except ServiceAway as error:
        raise Unreachable(str(error)) from error
