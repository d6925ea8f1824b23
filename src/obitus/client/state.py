"""All global state of the client, in one place."""

from __future__ import annotations

import contextvars
import itertools
import threading
import weakref
from typing import Any, Final

active: Any = None
"""The reporter of this process, None where nothing is reported. ``active.active_reporter()`` returns it with its type."""
marking: Any = None
"""The same, None also where no marks are wanted."""
current_run: Final[contextvars.ContextVar[Any]] = contextvars.ContextVar("obitus_run", default=None)
"""The current run; None outside of any."""
run_numbers: Final = itertools.count()
ours: Final = threading.local()
"""``ours.working`` is true on a thread that works for the client, so that what it does leaves no breadcrumbs."""
said: Final[set[str]] = set()
"""Parts of the client that failed and were reported in the log."""
forking: Final[list[weakref.ref[Any]]] = []
"""The reporters that pause before a fork."""
living: Final[list[Any]] = []
"""The process object of ``multiprocessing`` that this process is the life of, in a child."""
in_statement: Final[contextvars.ContextVar[bool]] = contextvars.ContextVar("obitus_query", default=False)
"""Whether a library above the driver reports its statements itself."""
in_call: Final[contextvars.ContextVar[bool]] = contextvars.ContextVar("obitus_http", default=False)
"""Whether a library above reports its HTTP calls itself."""
