"""Parts of a grouping decision that are seldom needed: the reasons, and the fingerprints of earlier versions."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache
from typing import Any

from obitus.core.frames import ChainLink
from obitus.core.grouping.recipe import Fingerprint, Part, earlier_texts
from obitus.core.grouping.rules import GroupingRule, value_of
from obitus.core.quiet import failing
from obitus.core.quiet.finding import Kind
from obitus.store.grouping import Decided


class AsCollected:
    """The reasons for a collected failure."""

    def __init__(self, kind: Kind, subject: str) -> None:
        self._kind, self._subject = kind, subject

    def parts(self) -> Sequence[Part]:
        """Return what counted and what did not, each with its reason."""
        return failing.parts_of(self._kind, self._subject)

    def earlier(self) -> Sequence[str]:
        """Return the fingerprints that earlier versions of the recipe gave: there are none of it."""
        return ()

    def value_of(self, name: str) -> str:
        """Return a value by which a split keeps apart: collected failures have none."""
        return ""


class ComputedParts:
    """Parts of a decision that are computed when they are needed."""

    def __init__(
        self,
        chain: list[ChainLink],
        decided: Fingerprint,
        together: GroupingRule | None,
        facts: Callable[[], dict[str, Any]],
    ) -> None:
        self._chain, self._decided, self._together, self._facts = chain, decided, together, facts

    def parts(self) -> Sequence[Part]:
        """Return what counted and what did not, each with its reason; of a rule that keeps failures together, the rule."""
        if self._together is not None:
            reason = "a grouping rule keeps these together"
            return [Part("rule", self._together.text, counted=True, reason=reason)]
        return self._decided.parts

    def earlier(self) -> Sequence[str]:
        """Return the fingerprints that earlier versions of the recipe gave, the newest first."""
        return earlier_texts(self._chain, self._decided.apart)

    def value_of(self, name: str) -> str:
        """Return a value of the failure by which a split keeps apart."""
        return str(value_of(name, self._chain, self._facts()))[:200]


class ReadAgain:
    """The same of a report that another process prepared: its content is read again from its evidence, once."""

    def __init__(self, again: Callable[[], Decided]) -> None:
        self._again = cache(again)

    def parts(self) -> Sequence[Part]:
        """Return what counted and what did not, each with its reason."""
        return self._again().further.parts()

    def earlier(self) -> Sequence[str]:
        """Return the fingerprints that earlier versions of the recipe gave, the newest first."""
        return self._again().further.earlier()

    def value_of(self, name: str) -> str:
        """Return a value of the failure by which a split keeps apart."""
        return self._again().further.value_of(name)
