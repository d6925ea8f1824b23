"""Numbers as text that machines read: the OpenMetrics text format, version 1.0.0."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Final, Literal

CONTENT_TYPE: Final = "application/openmetrics-text; version=1.0.0; charset=utf-8"
_NAME: Final = re.compile(r"[a-zA-Z_:][a-zA-Z0-9_:]*")


@dataclass(slots=True)
class Family:
    """One metric: what it is, and its values by labels. Counters only grow until the service starts again."""

    name: str
    kind: Literal["counter", "gauge", "info"]
    help: str
    unit: str = ""
    values: list[tuple[Mapping[str, str], float]] = field(default_factory=list)

    def add(self, value: float, **labels: str) -> None:
        """Add a value with its labels."""
        self.values.append((labels, value))


def text_of(families: Iterable[Family]) -> str:
    """Return metrics in the format, with the mark at the end that shows that they are complete."""
    lines: list[str] = []
    for family in families:
        if not _NAME.fullmatch(family.name) or (family.unit and not family.name.endswith(f"_{family.unit}")):
            raise ValueError(f"{family.name!r} is no name of a metric in {family.unit or 'no unit'}")
        lines.append(f"# TYPE {family.name} {family.kind}")
        if family.unit:
            lines.append(f"# UNIT {family.name} {family.unit}")
        lines.append(f"# HELP {family.name} {_escaped(family.help)}")
        suffix = {"counter": "_total", "gauge": "", "info": "_info"}[family.kind]
        lines += [f"{family.name}{suffix}{_labels(labels)} {_number(value)}" for labels, value in family.values]
    return "\n".join([*lines, "# EOF", ""])


def _labels(labels: Mapping[str, str]) -> str:
    if not labels:
        return ""
    return "{" + ",".join(f'{name}="{_escaped(value, quotes=True)}"' for name, value in labels.items()) + "}"


def _escaped(text: str, *, quotes: bool = False) -> str:
    escaped = text.replace("\\", "\\\\").replace("\n", "\\n")
    return escaped.replace('"', '\\"') if quotes else escaped


def _number(value: float) -> str:
    if math.isinf(value):
        return "+Inf" if value > 0 else "-Inf"
    return str(int(value)) if value == int(value) and abs(value) < 1e15 else repr(float(value))
