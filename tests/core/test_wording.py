"""Numbers, times and sentences in words."""

from __future__ import annotations

import pytest

from obitus.core.wording import ago, as_sentence, count_of, span


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("there is no issue 99", "There is no issue 99."),
        ("this link was used already. Ask for another", "This link was used already. Ask for another."),
        ("nobody here is named 'ida'", "Nobody here is named 'ida'."),
        ("There are 3.", "There are 3."),
        ("ida has changed this", "ida has changed this."),
        ("/srv/records holds no records", "/srv/records holds no records."),
        ("theatre is not an app", "theatre is not an app."),
    ],
)
def test_a_message_becomes_a_sentence(text: str, sentence: str) -> None:
    """A name at its beginning stays as it is written."""
    assert as_sentence(text) == sentence


@pytest.mark.parametrize(
    ("then_ms", "text"), [(0, "1 h ago"), (3_599_000, "just now"), (3_590_000, "10 s ago"), (3_660_000, "in 1 min")]
)
def test_how_long_ago(then_ms: int, text: str) -> None:
    """In the largest whole unit; what is ahead says so."""
    assert ago(then_ms, 3_600_000) == text


def test_counts_and_spans() -> None:
    """With their noun and unit."""
    assert count_of(1, "failure") == "1 failure" and count_of(1204, "reply", "replies") == "1,204 replies"
    assert span(90_000) == "1 min"
