"""Questions about failures, logs and runs, in one small language.

``user.id=p-102 entry_point~boardings "vehicle height"``: terms that must all hold. ``reading`` parses a text into a tree, ``tree`` defines its nodes, ``holding`` says whether a record matches. The store answers the same trees with SQL.
"""

from obitus.core.asking.holding import holds
from obitus.core.asking.reading import MOST_CHARACTERS, MOST_DEEP, MOST_TERMS, QuestionTrouble, read
from obitus.core.asking.tree import All, AnyOf, Compare, Exists, Node, Not, Words, fields_of

__all__ = [
    "MOST_CHARACTERS",
    "MOST_DEEP",
    "MOST_TERMS",
    "All",
    "AnyOf",
    "Compare",
    "Exists",
    "Node",
    "Not",
    "QuestionTrouble",
    "Words",
    "fields_of",
    "holds",
    "read",
]
