"""The small language of tracepoints: a condition and named values over what a line of a running program can see.

``passengers > 4 and "eastholm" in sailing.piers``: ``expressions`` defines the tree, ``reading`` parses a text into
it, ``looking`` reads attributes and items of live objects without running a line of the app, ``evaluating``
evaluates. Only the functions named here are called, and nothing is ever passed to Python's own ``eval``.
"""

from obitus.core.tracepoints.evaluating import Evaluated, compiled, holds
from obitus.core.tracepoints.expressions import Expression, names_of, written
from obitus.core.tracepoints.looking import NoValue
from obitus.core.tracepoints.messages import Message, read_message
from obitus.core.tracepoints.orders import (
    OrderTrouble,
    TracepointOrder,
    Value,
    read_condition,
    read_order,
    read_value,
    template_of,
    words_of,
)
from obitus.core.tracepoints.reading import ExpressionTrouble, read
from obitus.core.tracepoints.sources import hash_of, hash_of_line, is_end_of, nearest_line

__all__ = [
    "Evaluated",
    "Expression",
    "ExpressionTrouble",
    "Message",
    "NoValue",
    "OrderTrouble",
    "TracepointOrder",
    "Value",
    "compiled",
    "hash_of",
    "hash_of_line",
    "holds",
    "is_end_of",
    "names_of",
    "nearest_line",
    "read",
    "read_condition",
    "read_message",
    "read_order",
    "read_value",
    "template_of",
    "words_of",
    "written",
]
