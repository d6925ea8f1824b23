"""The shape of a database statement: what it does stays, values go."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.statements import MOST_SHAPE, shape, verb


@pytest.mark.parametrize(
    ("statement", "shown"),
    [
        ("SELECT * FROM t WHERE a='x''y' AND b=12.5 -- note\n AND c IN (1,2, 3)", "SELECT * FROM t WHERE a=? AND b=? AND c IN (?, …)"),
        ("INSERT INTO p VALUES (1,'a'),(2,\"b\"),(3,'c')", "INSERT INTO p VALUES (?, …), …"),
        ('select "col1" from t1 where x=$1 and y=:p2 and z = "pin"', 'select "col1" from t1 where x=$1 and y=:p2 and z = ?'),
        ("SELECT $body$ any 'thing' $body$, 0xFF /* hint */", "SELECT ?, ?"),
        ("SELECT 'never closed", "SELECT ?"),
        ("UPDATE `sailings` SET n = -7 WHERE id IN (?, ?, ?)", "UPDATE `sailings` SET n = -? WHERE id IN (?, …)"),
        ("", ""),
    ],
)  # fmt: skip
def test_shapes(statement: str, shown: str) -> None:
    """Literals become ?, lists fold, comments go, names stay."""
    assert shape(statement) == shown


@given(
    st.from_regex(r"[a-z]{6,12}", fullmatch=True), st.sampled_from(["'{}'", "$${}$$", "('{}', '{}')", "x = '{}' and y"])
)
def test_no_literal_survives(secret: str, form: str) -> None:
    """Whatever a quoted literal holds, none of it is in the shape."""
    assert secret not in shape("SELECT Q FROM T WHERE P = " + form.format(secret, secret))


@given(st.text(max_size=2000))
def test_any_text_is_bounded_and_settled(text: str) -> None:
    """Never raises, never grows beyond its bound."""
    assert len(shape(text)) <= MOST_SHAPE
    assert len(shape(text * 50)) <= MOST_SHAPE


def test_verbs() -> None:
    """The first word says what it does."""
    assert [verb(text) for text in ("select 1", " (SELECT 1)", "", "123")] == ["SELECT", "SELECT", "", ""]
