"""Alert rules as a team defines them: one by one, or in a file in its repository; and the changes that a file would make.

[[alert]]
name = "boardings-fail"
when = "share of failed runs > 5% in 15m by entry_point where app=sailings"
to = ["night-mail"]
priority = "high"
at_most_an_hour = 6
escalate_to = ["lead"]
escalate_after = "15m"
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Any, Final, Literal

from obitus.core.alerting.conditions import read_condition
from obitus.core.asking.reading import QuestionTrouble
from obitus.core.clock import MINUTE_MS, span_ms
from obitus.core.priority import LEVELS, Level
from obitus.core.wording import span

MOST_BYTES: Final = 256 * 1024
MOST_IN_FILE: Final = 1000
MOST_CHANNELS: Final = 20
MOST_AN_HOUR: Final = 1000
LONGEST_ESCALATION_MS: Final = 24 * 60 * MINUTE_MS
NAME: Final = re.compile(r"[a-z0-9][a-z0-9-]{0,59}")
_KEYS: Final = frozenset({"name", "when", "to", "priority", "at_most_an_hour", "escalate_to", "escalate_after"})


class WantedTrouble(ValueError):
    """A rule, or a file of rules, is not valid; says where and what is expected. ``field`` names the part."""

    def __init__(self, field: str, said: str, position: int | None = None) -> None:
        super().__init__(said)
        self.field, self.position = field, position


@dataclass(frozen=True, slots=True)
class RuleDefinition:
    """A rule as it is defined."""

    name: str
    condition: str
    to: tuple[str, ...]
    priority: Level = "middle"
    at_most_an_hour: int = 12
    escalate_to: tuple[str, ...] = ()
    escalate_after_ms: int | None = None
    source: str = ""
    """The file that defines it, '' for none."""


@dataclass(frozen=True, slots=True)
class RuleChange:
    """What a file would do with one rule, and the differences."""

    name: str
    act: Literal["add", "change", "keep", "end", "leave"]
    said: str
    wanted: RuleDefinition | None = None


def check(wanted: RuleDefinition, now_ms: int, channels: Collection[str] | None = None) -> None:
    """Raise WantedTrouble where a rule cannot be used; ``channels`` are the existing ones."""
    if not NAME.fullmatch(wanted.name):
        raise WantedTrouble(
            "name",
            f"{wanted.name[:70]!r} is no name: small letters, digits and dashes, up to 60, such as boardings-fail",
        )
    try:
        read_condition(wanted.condition, now_ms)
    except QuestionTrouble as trouble:
        raise WantedTrouble("when", str(trouble), trouble.position) from None
    if wanted.priority not in LEVELS:
        raise WantedTrouble("priority", f"one of {', '.join(LEVELS)} is expected")
    if not 1 <= wanted.at_most_an_hour <= MOST_AN_HOUR:
        raise WantedTrouble("at_most_an_hour", f"a number from 1 to {MOST_AN_HOUR} is expected")
    for field, names in (("to", wanted.to), ("escalate_to", wanted.escalate_to)):
        if len(names) > MOST_CHANNELS:
            raise WantedTrouble(field, f"up to {MOST_CHANNELS} channels are expected")
        for name in names:
            if channels is not None and name not in channels:
                known = f" There are: {', '.join(sorted(channels))}." if channels else " There is none yet."
                raise WantedTrouble(field, f"there is no channel named {name[:70]!r}.{known}")
    if bool(wanted.escalate_to) != (wanted.escalate_after_ms is not None):
        raise WantedTrouble(
            "escalate_after", "escalate_to and escalate_after go together: who else is notified, and after how long"
        )
    if wanted.escalate_after_ms is not None and not MINUTE_MS <= wanted.escalate_after_ms <= LONGEST_ESCALATION_MS:
        raise WantedTrouble(
            "escalate_after", f"between {span(MINUTE_MS)} and {span(LONGEST_ESCALATION_MS)} is expected"
        )


def read_file(text: str, source: str) -> list[RuleDefinition]:
    """Return the rules of a file; raises WantedTrouble, which names the rule."""
    if len(text.encode("utf-8", "replace")) > MOST_BYTES:
        raise WantedTrouble("text", f"a file of rules has up to {MOST_BYTES // 1024} KiB")
    try:
        content = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise WantedTrouble("text", f"this is no TOML: {error}") from None
    if unknown := content.keys() - {"alert"}:
        raise WantedTrouble("text", f"{sorted(unknown)[0]!r} is not known: a file of rules holds [[alert]] tables")
    tables = content.get("alert", [])
    if not isinstance(tables, list) or len(tables) > MOST_IN_FILE:
        raise WantedTrouble("text", f"up to {MOST_IN_FILE} [[alert]] tables are expected")
    definitions: dict[str, RuleDefinition] = {}
    for number, table in enumerate(tables, 1):
        wanted = _of_table(table, number, source)
        if wanted.name in definitions:
            raise WantedTrouble("name", f"alert {number}: there are two named {wanted.name!r}")
        definitions[wanted.name] = wanted
    return list(definitions.values())


def plan(
    there: Mapping[str, RuleDefinition], wanted: Sequence[RuleDefinition], *, ends_others: bool
) -> list[RuleChange]:
    """Return what a file would do: add, change or keep its rules; other rules are left, or ended if requested."""
    steps = []
    for definition in wanted:
        before = there.get(definition.name)
        if before is None:
            steps.append(RuleChange(definition.name, "add", definition.condition, definition))
        elif different := _different(before, definition):
            steps.append(RuleChange(definition.name, "change", different, definition))
        else:
            steps.append(RuleChange(definition.name, "keep", definition.condition))
    named = {definition.name for definition in wanted}
    for name in sorted(there.keys() - named):
        where = f"from {there[name].source}" if there[name].source else "made by hand"
        steps.append(RuleChange(name, "end" if ends_others else "leave", f"not in the file; {where}"))
    return steps


def _different(before: RuleDefinition, after: RuleDefinition) -> str:
    differences = []
    for field in fields(RuleDefinition):
        was, will = getattr(before, field.name), getattr(after, field.name)
        if was != will and field.name != "source":
            differences.append(f"{_NAMES.get(field.name, field.name)}: {_shown(was)} becomes {_shown(will)}")
    if not differences and before.source != after.source:
        differences.append(f"source: {before.source or 'made by hand'} becomes {after.source}")
    return "; ".join(differences)


_NAMES: Final = {"condition": "when", "escalate_after_ms": "escalate_after"}


def _shown(value: Any) -> str:
    if isinstance(value, tuple):
        return ", ".join(value) or "nobody"
    if value is None:
        return "never"
    return str(value)


def _of_table(table: Any, number: int, source: str) -> RuleDefinition:
    if not isinstance(table, dict):
        raise WantedTrouble("text", f"alert {number}: an [[alert]] table is expected")
    called = f"alert {number} ({str(table.get('name', 'without a name'))[:60]})"
    if unknown := table.keys() - _KEYS:
        raise WantedTrouble(
            "text", f"{called}: {sorted(unknown)[0]!r} is not known; there are {', '.join(sorted(_KEYS))}"
        )
    for key in ("name", "when"):
        if not isinstance(table.get(key), str):
            raise WantedTrouble(key, f"{called}: {key} is missing, or no text")
    after = table.get("escalate_after")
    after_ms = span_ms(after) if isinstance(after, str) else None
    if after is not None and after_ms is None:
        raise WantedTrouble("escalate_after", f"{called}: escalate_after is a span such as 15m")
    an_hour = table.get("at_most_an_hour", 12)
    if not isinstance(an_hour, int) or isinstance(an_hour, bool):
        raise WantedTrouble("at_most_an_hour", f"{called}: at_most_an_hour is a number")
    priority = table.get("priority", "middle")
    if priority not in LEVELS:
        raise WantedTrouble("priority", f"{called}: priority is one of {', '.join(LEVELS)}")
    return RuleDefinition(
        table["name"],
        " ".join(table["when"].split()),
        _names(table, "to", called),
        priority,
        an_hour,
        _names(table, "escalate_to", called),
        after_ms,
        source,
    )


def _names(table: dict[str, Any], key: str, called: str) -> tuple[str, ...]:
    names = table.get(key, [])
    names = [names] if isinstance(names, str) else names
    if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
        raise WantedTrouble(key, f'{called}: {key} is a list of channels: {key} = ["night-mail"]')
    return tuple(dict.fromkeys(names))
