"""What is wrong with a value, in words."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import date, datetime
from enum import Enum
from pathlib import Path
from typing import Annotated, Any, Literal
from uuid import UUID

import pytest
from pydantic import AfterValidator, BaseModel, Field, TypeAdapter, ValidationError

import obitus.service
from obitus.service.wrong_values import PATTERNS, what_is_expected
from tests.conftest import Running, failure


class Deck(Enum):
    UPPER = "upper"
    LOWER = "lower"


def refused(_: str) -> str:
    raise ValueError("say a time, such as 08:30")


class Closed(BaseModel, extra="forbid"):
    name: str


@pytest.mark.parametrize(
    ("of", "value", "said"),
    [
        (Closed, {}, "is missing"), (Closed, {"name": "a", "b": 1}, "is not a known field"), (Closed, 3, "an object is expected"),
        (str, 3, "a text is expected"), (int, "x", "a whole number is expected"), (int, 2.5, "a whole number is expected"), (float, "x", "a number is expected"),
        (bool, "x", "true or false is expected"), (list[int], 3, "a list is expected"), (dict[str, int], 3, "an object is expected"),
        (UUID, "x", "an id is expected, such as 01890b0e-5c2a-7c3a-bc46-120ebafb368d"), (date, "x", "a day is expected, such as 2026-12-01"),
        (datetime, "noon", "a time is expected, such as 2026-12-01T08:30:00Z"), (Literal["a", "b", "c"], "d", "a, b or c is expected"), (Deck, "x", "upper or lower is expected"),
        (Annotated[str, Field(min_length=1)], "", "is empty"), (Annotated[str, Field(min_length=12)], "x", "has fewer than 12 characters"),
        (Annotated[str, Field(max_length=1)], "xx", "has more than 1 character"), (Annotated[list[int], Field(max_length=2)], [1, 2, 3], "has more than 2 items"),
        (Annotated[int, Field(ge=1)], 0, "at least 1 is expected"), (Annotated[int, Field(le=5000)], 5001, "at most 5,000 is allowed"),
        (Annotated[int, Field(gt=1)], 0, "more than 1 is expected"), (Annotated[float, Field(lt=0.5)], 0.5, "less than 0.5 is expected"),
        (Annotated[float, Field(allow_inf_nan=False)], float("inf"), "a finite number is expected"), (Annotated[str, Field(pattern="^x$")], "y", "a text like ^x$ is expected"),
        (Annotated[str, AfterValidator(refused)], "noon", "say a time, such as 08:30"),
    ],
)  # fmt: skip
def test_what_is_expected(of: Any, value: Any, said: str) -> None:
    """Each says what a value should be, and none is a sentence about somebody's input."""
    with pytest.raises(ValidationError) as raised:
        TypeAdapter(of).validate_python(value)
    assert what_is_expected(raised.value.errors()[0]) == said


def patterns_in(described: Any) -> Iterator[str]:
    if isinstance(described, dict):
        if isinstance(described.get("pattern"), str):
            yield described["pattern"]
        for inner in described.values():
            yield from patterns_in(inner)
    elif isinstance(described, list):
        for inner in described:
            yield from patterns_in(inner)


def test_every_pattern_has_words() -> None:
    """Nobody has to read a regular expression in order to name an app."""
    description = json.loads((Path(obitus.service.__file__).parent / "pages/openapi.json").read_text("utf-8"))
    assert set(patterns_in(description)) == set(PATTERNS)


def test_what_the_api_answers(running: Running) -> None:
    """The field and what is expected there, as a sentence: for people, pipelines and senders."""
    answers = [
        running.ask("POST", "/api/apps", {"name": "færge"}),
        running.ask("GET", "/api/issues?limit=0"),
        running.ask("POST", "/api/apps", {"name": "sailings", "kind": "boat"}),
    ]
    assert [answer.json()["detail"] for answer in answers] == [
        "name: small letters, digits and dashes are expected, and a letter at the beginning.",
        "limit: at least 1 is expected.",
        "kind: fastapi, flask, django, celery, script, command or opentelemetry is expected.",
    ]
    verdict = running.send(running.add_app(), failure() | {"trace_id": "X"}).json()["lines"][0]
    assert verdict["reason"] == "trace_id: a trace id is expected: 32 digits of 0-9 and a-f."
