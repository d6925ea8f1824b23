"""``make bench-grouping``: how well failures are put together, beside other ways on the same records. Obitus groups what its
client reports, and the same as text; all other ways see the text.

B-cubed precision, recall and F1 (A. Bagga and B. Baldwin, 1998) and pairwise F1 against the planted faults. The
baselines: the whole text; type and message; type and innermost function; type and all functions; and the
position-dependent similarity with agglomerative clustering of Y. Dang, R. Wu, H. Zhang, D. Zhang and P. Nobel, ICSE 2012,
whose three parameters are chosen on the tuning part.
"""

from __future__ import annotations

import argparse
import itertools
import math
import random
import statistics
from collections import Counter
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial

from bench.corpus import suites
from bench.corpus.keeping import corpus
from bench.corpus.making import TEST, TUNING, Record
from obitus.core.frames import ChainLink
from obitus.core.grouping.groups import Groups
from obitus.core.stacks import stack_of
from obitus.service.intake.chains import chain_of

SHUFFLES = 5


@dataclass(frozen=True)
class Read:
    """A record, read."""

    record: Record
    chain: tuple[ChainLink, ...]


Way = Callable[[Sequence[Read]], list[Hashable]]


@dataclass(frozen=True)
class Score:
    """How well groups match labels; each from 0 to 1."""

    precision: float
    recall: float
    f1: float
    pairs_f1: float


def score(groups: Sequence[Hashable], labels: Sequence[Hashable]) -> Score:
    """Return B-cubed precision, recall, F1 and pairwise F1."""
    both = Counter(zip(groups, labels, strict=True))
    by_group, by_label = Counter(groups), Counter(labels)
    n = len(labels)
    precision = sum(c * c / by_group[g] for (g, _), c in both.items()) / n
    recall = sum(c * c / by_label[label] for (_, label), c in both.items()) / n
    right = sum(math.comb(c, 2) for c in both.values())
    said = sum(math.comb(c, 2) for c in by_group.values())
    true = sum(math.comb(c, 2) for c in by_label.values())
    return Score(
        precision, recall, _f1(precision, recall), _f1(right / said if said else 1, right / true if true else 1)
    )


def _f1(precision: float, recall: float) -> float:
    return 2 * precision * recall / (precision + recall) if precision + recall else 0.0


def ours(reads: Sequence[Read]) -> list[Hashable]:
    """Group as Obitus does, in order of arrival."""
    groups = Groups()
    return [groups.add(read.chain)[0] for read in reads]


def exact(reads: Sequence[Read]) -> list[Hashable]:
    """Group by the exact fingerprint alone."""
    groups = Groups()
    return [groups.add(read.chain)[1].text for read in reads]


def _functions(read: Read) -> list[str]:
    return [f"{frame.module}.{frame.function}" for frame in reversed(read.chain[-1].frames)]


BASELINES: dict[str, Way] = {
    "whole text": lambda reads: [r.record.stacktrace for r in reads],
    "type and message": lambda reads: [(r.record.type, r.record.message) for r in reads],
    "type and innermost function": lambda reads: [(r.record.type, *_functions(r)[:1]) for r in reads],
    "type and all functions": lambda reads: [(r.record.type, *_functions(r)) for r in reads],
}


def positional(reads: Sequence[Read], c: float, o: float, d: float) -> list[Hashable]:
    """Group by the position-dependent similarity of Dang and others, complete linkage, cut at distance ``d``."""
    stacks = [tuple(_functions(read)) for read in reads]
    distinct = tuple(sorted(set(stacks)))
    near = {pair: distance for pair, distance in _distances(distinct, c, o).items() if distance < d}
    members = {i: {i} for i in range(len(distinct))}
    of = dict(enumerate(range(len(distinct))))
    for (i, j), _ in sorted(near.items(), key=lambda pair: (pair[1], pair[0])):
        one, other = of[i], of[j]
        if one == other or any((min(a, b), max(a, b)) not in near for a in members[one] for b in members[other]):
            continue
        members[one] |= members.pop(other)
        for member in members[one]:
            of[member] = one
    index = {stack: i for i, stack in enumerate(distinct)}
    return [of[index[stack]] for stack in stacks]


@lru_cache(maxsize=8)
def _distances(distinct: tuple[tuple[str, ...], ...], c: float, o: float) -> dict[tuple[int, int], float]:
    sets = [set(stack) for stack in distinct]
    return {
        (i, j): 1 - _similarity(distinct[i], distinct[j], c, o)
        for i, j in itertools.combinations(range(len(distinct)), 2)
        if sets[i] & sets[j]
    }


def _similarity(one: tuple[str, ...], other: tuple[str, ...], c: float, o: float) -> float:
    """Return formula 1 of the paper, by the dynamic programme of its formula 2; position 0 is the innermost frame."""
    row = [0.0] * (len(other) + 1)
    for i, mine in enumerate(one):
        before = 0.0
        for j, theirs in enumerate(other):
            above = row[j + 1]
            best = max(above, row[j])
            if mine == theirs:
                best = max(best, before + math.exp(-c * min(i, j) - o * abs(i - j)))
            before = above
            row[j + 1] = best
    return row[-1] / sum(math.exp(-c * j) for j in range(min(len(one), len(other)))) if one and other else 0.0


def read(records: Sequence[Record]) -> list[Read]:
    """Read the stack text of each record as the command does."""
    return [Read(r, stack_of(r.type, r.message, r.stacktrace).chain) for r in records]


def reported(records: Sequence[Record]) -> list[Read]:
    """Read each record as the client reports it."""
    return [Read(r, tuple(chain_of({"exceptions": r.exceptions}))) for r in records]


def measured(parts: dict[str, list[Read]], way: Way) -> Score:
    """Group each app by itself, as the service does, and score all together."""
    groups: list[Hashable] = []
    labels: list[Hashable] = []
    for app, reads in parts.items():
        groups += [(app, group) for group in way(reads)]
        labels += [(app, r.record.label) for r in reads]
    return score(groups, labels)


def tuned(parts: dict[str, list[Read]]) -> dict[str, float]:
    """Choose the parameters of the position-dependent similarity: the best B-cubed F1 on the tuning part."""
    choices = [{"c": c, "o": o, "d": d} for c in (0.0, 0.1, 0.5, 1.0, 2.0) for o in (0.0, 0.1, 0.5, 1.0) for d in (0.05, 0.2, 0.4, 0.6)]  # fmt: skip
    some = {app: reads[:120] for app, reads in parts.items()}
    return max(
        choices, key=lambda choice: measured(some, partial(positional, c=choice["c"], o=choice["o"], d=choice["d"])).f1
    )


def steady(parts: dict[str, list[Read]]) -> float:
    """Return how alike the groups are when the same failures come in another order: B-cubed F1 of the two, the mean."""
    found = []
    for seed in range(SHUFFLES):
        groups: list[Hashable] = []
        again: list[Hashable] = []
        for app, reads in parts.items():
            order = list(range(len(reads)))
            random.Random(seed).shuffle(order)
            shuffled = ours([reads[i] for i in order])
            placed: dict[int, Hashable] = dict(zip(order, shuffled, strict=True))
            groups += [(app, g) for g in ours(reads)]
            again += [(app, placed[i]) for i in range(len(reads))]
        found.append(score(groups, again).f1)
    return statistics.mean(found)


def main() -> None:
    """Print the table for both parts."""
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--tuning-only", action="store_true")
    only = asked.parse_args().tuning_only
    kept = {"tuning": corpus(TUNING), "tests of others, tuning": corpus(suites.TUNING)}
    if not only:
        kept |= {"test": corpus(TEST), "tests of others, test": corpus(suites.TEST)}
    best = None if only else tuned({app: read(records) for app, records in kept["tuning"].items()})
    for name, part in kept.items():
        _print_part(name, part, best)
    if best is not None:
        print(f"\nparameters of the position-dependent similarity, chosen on the tuning part: {best}")


def _print_part(name: str, part: dict[str, list[Record]], best: dict[str, float] | None) -> None:
    texts = {app: read(records) for app, records in part.items()}
    reports = {app: reported(records) for app, records in part.items()}
    labels = {(app, record.label) for app, records in part.items() for record in records}
    print(f"\n{name} part: {sum(map(len, part.values())):,} failures of {len(labels)} faults in {len(part)} apps")
    print(f"{'':<44}{'precision':>10}{'recall':>8}{'F1':>8}{'pairs F1':>10}")
    _print_score("Obitus, what its client reports", measured(reports, ours))
    _print_score("Obitus, the text", measured(texts, ours))
    _print_score("  the exact fingerprint alone", measured(texts, exact))
    ways = dict(BASELINES)
    if best is not None:
        ways["position-dependent, Dang and others 2012"] = partial(positional, c=best["c"], o=best["o"], d=best["d"])
    for title, way in ways.items():
        _print_score(title, measured(texts, way))
    for kind in sorted({record.kind for records in part.values() for record in records}):
        for what, reads in (("reported", reports), ("text", texts)):
            of_kind = {app: [one for one in some if one.record.kind == kind] for app, some in reads.items()}
            _print_score(f"  Obitus, faults: {kind}, {what}", measured(of_kind, ours))
    print(
        f"the same failures in another order: groups alike {steady(reports):.3f} (B-cubed F1 of both, mean of {SHUFFLES})"
    )


def _print_score(title: str, result: Score) -> None:
    print(f"{title:<44}{result.precision:>10.3f}{result.recall:>8.3f}{result.f1:>8.3f}{result.pairs_f1:>10.3f}")


if __name__ == "__main__":
    main()
