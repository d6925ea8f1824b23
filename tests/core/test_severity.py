"""Severities and thresholds by logger name."""

from __future__ import annotations

import pytest

from obitus.core.severity import SEVERITIES, Thresholds, ThresholdTrouble, from_python_level, parse_thresholds, rank


def test_python_levels() -> None:
    """Levels of `logging`, custom ones too, map onto the six severities."""
    assert [from_python_level(level) for level in (5, 10, 20, 25, 30, 40, 50, 99)] == [
        "TRACE", "DEBUG", "INFO", "INFO", "WARN", "ERROR", "FATAL", "FATAL",
    ]  # fmt: skip
    assert [rank(severity) for severity in SEVERITIES] == [0, 1, 2, 3, 4, 5]


def test_the_nearest_name_above_decides() -> None:
    """Dotted names inherit from the nearest one that is named; `off` silences all below it."""
    thresholds = Thresholds(parse_thresholds("ERROR, a.b=DEBUG; a.b.c=off,noisy=warning", "WARN"))
    heard = {
        name: [severity for severity in SEVERITIES if thresholds.passes(name, severity)][:1]
        for name in ("x", "a", "a.b", "a.b.d", "a.b.c", "a.b.c.d", "a.bc", "noisy.deep", "")
    }
    assert heard == {
        "x": ["ERROR"], "a": ["ERROR"], "a.b": ["DEBUG"], "a.b.d": ["DEBUG"], "a.b.c": [], "a.b.c.d": [],
        "a.bc": ["ERROR"], "noisy.deep": ["WARN"], "": ["ERROR"],
    }  # fmt: skip


@pytest.mark.parametrize("text", ["LOUD", "a=LOUD", "=WARN", "a=b=c"])
def test_what_cannot_be_understood(text: str) -> None:
    """The trouble names what was written and says what to write."""
    with pytest.raises(ThresholdTrouble, match="LOGGER=SEVERITY"):
        parse_thresholds(text, "WARN")
