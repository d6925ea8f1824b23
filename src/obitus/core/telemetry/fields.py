"""Fields of OpenTelemetry's JSON form: attributes, values, ids, times, severities, and the sender. All bounded."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.bounds import short
from obitus.core.severity import SEVERITIES, severity_of

MOST_ATTRIBUTES: Final = 200
MOST_TEXT: Final = 8000
_OWN_NAMES: Final = ("service.name", "service.version", "deployment.environment.name", "deployment.environment")


@dataclass(frozen=True, slots=True)
class Source:
    """The sender, from the resource: service name, version and environment, ``""`` where they are missing."""

    app: str
    release: str
    environment: str


@dataclass(frozen=True, slots=True)
class Translated:
    """Reports of one source, each with the number of its record; and the records without a report, with the reason."""

    source: Source
    reports: list[tuple[int, dict[str, Any]]]
    refused: list[tuple[int, str]]
    left_out: int = 0
    """How many records were skipped, because there were too many."""


class Untranslatable(ValueError):
    """One record is invalid; the message says why."""


def source_of(resource_part: Mapping[str, Any]) -> tuple[Source, dict[str, Any]]:
    """Return the sender of a part of an export, and the attributes of its resource for every record in it."""
    attributes = attributes_of(dict_in(resource_part, "resource").get("attributes"))
    environment = attributes.get("deployment.environment.name") or attributes.get("deployment.environment") or ""
    source = Source(
        str(attributes.get("service.name") or "")[:100],
        short(str(attributes.get("service.version") or "")),
        str(environment)[:100],
    )
    # Attributes of the process (its command line, its runtime) are not kept on each record.
    shared = {n: v for n, v in attributes.items() if n not in _OWN_NAMES or n == "service.name"}
    return source, dict(list(shared.items())[:60])


def attributes_of(raw: Any) -> dict[str, Any]:
    """Return attributes as names and values; anything but a list of them is empty."""
    if not isinstance(raw, list):
        return {}
    return {
        short(str(pair["key"])): value_of(pair.get("value"))
        for pair in raw[:MOST_ATTRIBUTES]
        if isinstance(pair, dict) and "key" in pair
    }


def bounded(attributes: dict[str, Any]) -> dict[str, Any]:
    """Return attributes cut to their bounds, in number and length."""
    return {n: v[:MOST_TEXT] if isinstance(v, str) else v for n, v in list(attributes.items())[:MOST_ATTRIBUTES]}


def value_of(raw: Any, deep: int = 0) -> Any:
    """Return a value of the protocol (``AnyValue``) as a Python value; None where it is none."""
    if not isinstance(raw, dict) or deep > 8:
        return None
    if "intValue" in raw:
        try:
            return int(raw["intValue"])
        except (ValueError, TypeError, OverflowError):
            # No valid number: it is kept as text.
            return str(raw["intValue"])[:MOST_TEXT]
    for name in ("stringValue", "boolValue", "doubleValue", "bytesValue"):
        if name in raw:
            return raw[name]
    if "arrayValue" in raw:
        return [value_of(element, deep + 1) for element in list_in(raw["arrayValue"], "values")[:MOST_ATTRIBUTES]]
    if "kvlistValue" in raw:
        return {
            short(str(element.get("key"))): value_of(element.get("value"), deep + 1)
            for element in list_in(raw["kvlistValue"], "values")[:MOST_ATTRIBUTES]
        }
    return None


def severity_in(record: Mapping[str, Any]) -> str:
    """Return the severity of a log record: by its number, else by its text."""
    number = record.get("severityNumber", 0)
    if isinstance(number, str):
        name = number.removeprefix("SEVERITY_NUMBER_").rstrip("234")
        return name if name in SEVERITIES else "INFO"
    if 1 <= int(number) <= 24:
        return SEVERITIES[(int(number) - 1) // 4]
    return severity_of(str(record.get("severityText", ""))) or "INFO"


def hex_id(value: Any, digits: int) -> str | None:
    """Return an id of so many hexadecimal digits, None where it is none or all zeros."""
    text = str(value or "").lower()
    if len(text) != digits or not text.strip("0") or text.strip("0123456789abcdef"):
        return None
    return text


def nanoseconds(value: Any) -> int:
    """Return a time, nanoseconds since 1970, 0 where there is none; raises Untranslatable for an invalid one."""
    number = int(value or 0)
    if not 0 <= number < 2**63:
        raise Untranslatable(f"{number} is no time in nanoseconds")
    return number


def list_in(holder: Any, name: str) -> list[Any]:
    """Return the objects in a list of that name."""
    value = holder.get(name) if isinstance(holder, Mapping) else None
    return [one for one in value if isinstance(one, Mapping)] if isinstance(value, list) else []


def dict_in(holder: Mapping[str, Any], name: str) -> Mapping[str, Any]:
    """Return the object of that name, an empty one where there is none."""
    value = holder.get(name)
    return value if isinstance(value, Mapping) else {}
