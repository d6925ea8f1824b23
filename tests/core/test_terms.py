"""What the text index holds: words as they are looked for, and a term for each name and value."""

from __future__ import annotations

import sqlite3

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.terms import MORE, MOST_WORDS, indexed_words, is_letter, term, terms_of, value_text, words_of

INDEX = "CREATE VIRTUAL TABLE words USING fts5 (text, content = '', columnsize = 0, detail = none, tokenize = \"ascii tokenchars '~'\")"


@given(
    st.text(max_size=60),
    st.dictionaries(st.text(max_size=8), st.text(max_size=8) | st.integers() | st.booleans(), max_size=3),
)
def test_each_word_and_term_finds_its_row(text: str, attributes: dict[str, object]) -> None:
    """Whatever the writing system: what was put in is found by each of its words and terms, and by no other's."""
    connection = sqlite3.connect(":memory:")
    connection.execute(INDEX)
    tokens = [*indexed_words(text), *terms_of(attributes.items())]
    connection.executemany(
        "INSERT INTO words (rowid, text) VALUES (?, ?)", [(1, " ".join(tokens)), (2, "~0 elsewhere")]
    )
    for token in tokens:
        if token != "elsewhere":
            found = connection.execute("SELECT rowid FROM words WHERE words MATCH ?", (f'"{token}"',)).fetchall()
            assert found == [(1,)], token
    connection.close()


def test_words() -> None:
    """Runs of letters and digits, in lower case, in order; a long text's are bounded."""
    assert words_of("Vehicle_height=3.20 at Østholm") == ["vehicle", "height", "3", "20", "at", "østholm"]
    assert indexed_words("no berth, no pier") == ["no", "berth", "pier"]
    assert indexed_words(" ".join(map(str, range(MOST_WORDS + 1))))[-2:] == [str(MOST_WORDS - 1), MORE]
    assert indexed_words("ab " * 100_000) == ["ab", MORE]


def test_scripts_without_spaces_between_words() -> None:
    """Each of their letters is a word, beside words of other scripts, which stay whole; Korean has spaces."""
    assert words_of("无法连接数据库 DB-7") == [*"无法连接数据库", "db", "7"]
    assert words_of("運賃テーブルがnullです") == [*"運賃テーブルが", "null", *"です"]
    assert words_of("운임 없음, цена") == ["운임", "없음", "цена"]
    assert words_of("ไม่พบ") == [*"ไมพบ"], "marks are no letters"
    assert [is_letter(word) for word in ("库", "テ", "a", "数据", "운")] == [True, True, False, False, False]


def test_values_that_mean_the_same_have_one_term() -> None:
    """A whole number is the same with and without a fraction of nothing; true is not 1; lists are JSON."""
    assert value_text(3) == value_text(3.0) == "3" and value_text(True) == "true"
    assert terms_of([("a", 3), ("b", [1, "x"]), ("c", None)]) == [term("a", "3"), term("b", '[1,"x"]')]
    assert term("a", "bc") != term("ab", "c")
