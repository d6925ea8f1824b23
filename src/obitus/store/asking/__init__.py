"""Questions answered with SQL: ``kinds`` says how each field is stored, ``compiling`` makes a condition of a
question's tree, ``finding`` searches the files of the days, newest first."""

from obitus.store.asking.finding import FoundRecords, Looked, find

__all__ = ["FoundRecords", "Looked", "find"]
