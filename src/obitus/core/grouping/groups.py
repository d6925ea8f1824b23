"""The decision: a known exact fingerprint leads to its group; an unknown one is compared with those that share something.

``choose`` is the decision itself, which the service uses with candidates from its store; ``Groups`` keeps all in
memory, for benchmarks and for the command line.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from typing import Final

from obitus.core.frames import ChainLink
from obitus.core.grouping.likeness import Verdict, compare, keys_of
from obitus.core.grouping.recipe import Fingerprint, Traits, fingerprint

MOST_COMPARED: Final = 40
"""Newest fingerprints that are compared for each key, so that the cost stays the same."""
MOST_SUGGESTED: Final = 5


@dataclass(frozen=True, slots=True)
class Candidate:
    """A known fingerprint that shares something with the new one, and the issue it leads to."""

    issue: int
    fingerprint: str
    traits: Traits


@dataclass(frozen=True, slots=True)
class Like:
    """An issue with which a fingerprint was compared, and the result."""

    issue: int
    fingerprint: str
    verdict: Verdict


@dataclass(frozen=True, slots=True)
class Choice:
    """Which issue a new fingerprint joins (None: a new one), and the nearest others."""

    joins: Like | None
    perhaps: tuple[Like, ...]


def choose(traits: Traits, candidates: Iterable[Candidate], never: Collection[int] = ()) -> Choice:
    """Compare with each candidate and choose the surest; the oldest issue where two are equally sure. ``never`` are
    issues that people keep apart from it.
    """
    best: dict[int, Like] = {}
    for candidate in candidates:
        verdict = compare(traits, candidate.traits)
        if verdict.kind == "apart":
            continue
        best_so_far = best.get(candidate.issue)
        if best_so_far is None or _rank(verdict) > _rank(best_so_far.verdict):
            best[candidate.issue] = Like(candidate.issue, candidate.fingerprint, verdict)
    likes = sorted(best.values(), key=lambda like: (_rank(like.verdict), -like.issue), reverse=True)
    joins = next((like for like in likes if like.verdict.kind == "same" and like.issue not in never), None)
    others = tuple(like for like in likes if like is not joins and like.issue not in never)
    return Choice(joins, others[:MOST_SUGGESTED])


def _rank(verdict: Verdict) -> float:
    return verdict.strength + (verdict.kind == "same")


class Groups:
    """Groups failures in memory, in their order. A group is the number of the failure that began it."""

    def __init__(self) -> None:
        self._group_of: dict[str, int] = {}
        self._by_key: dict[int, list[Candidate]] = {}
        self._seen = 0

    def add(self, chain: Sequence[ChainLink]) -> tuple[int, Fingerprint, Choice | None]:
        """Return the group of a failure, its fingerprint, and the choice that was made where it was not known."""
        decided = fingerprint(chain)
        group, choice = self.place(decided.text, decided.traits)
        return group, decided, choice

    def place(self, text: str, traits: Traits | None) -> tuple[int, Choice | None]:
        """Return the group of a fingerprint, and the choice that was made where it was not known.

        Without traits nothing is compared: a rule decided.
        """
        self._seen += 1
        group = self._group_of.get(text)
        if group is not None:
            return group, None
        if traits is None:
            self._group_of[text] = self._seen
            return self._seen, None
        keys = keys_of(traits)
        candidates: dict[str, Candidate] = {}
        for key in keys:
            for candidate in self._by_key.get(key, ())[-MOST_COMPARED:]:
                candidates[candidate.fingerprint] = candidate
        choice = choose(traits, candidates.values())
        group = choice.joins.issue if choice.joins is not None else self._seen
        self._group_of[text] = group
        mine = Candidate(group, text, traits)
        for key in keys:
            self._by_key.setdefault(key, []).append(mine)
        return group, choice
