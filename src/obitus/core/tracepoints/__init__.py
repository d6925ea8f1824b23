"""The small language of tracepoints: a condition and named values over what a line of a running program can see.

``passengers > 4 and "eastholm" in sailing.piers``: ``expressions`` says what it is made of, ``reading`` makes that of a text,
``looking`` reads attributes and items of live objects without running a line of the app, ``working_out`` gives a value.
Nothing is called but the functions named here, and nothing is ever handed to Python's own ``eval``.
"""

from obitus.core.tracepoints.expressions import Expression, names_of, written
from obitus.core.tracepoints.looking import NoValue
from obitus.core.tracepoints.messages import Message, read_message
from obitus.core.tracepoints.reading import ExpressionTrouble, read
from obitus.core.tracepoints.working_out import Worked, compiled

__all__ = [
    "Expression",
    "ExpressionTrouble",
    "Message",
    "NoValue",
    "Worked",
    "compiled",
    "names_of",
    "read",
    "read_message",
    "written",
]
