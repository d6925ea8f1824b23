"""The order of releases."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.releases import compare, parse_semver, sort_key

NUMBER = st.integers(0, 30).map(str)
WORD = st.from_regex(r"[0-9A-Za-z-]{1,4}", fullmatch=True).filter(
    lambda w: not (w.isdigit() and len(w) > 1 and w[0] == "0")
)
VERSION = st.builds(
    lambda core, pre, build: ".".join(core) + ("-" + ".".join(pre) if pre else "") + ("+" + build if build else ""),
    st.tuples(NUMBER, NUMBER, NUMBER),
    st.lists(WORD, max_size=3),
    st.sampled_from(["", "b7", "2026.11"]),
)


def test_order_of_the_standard() -> None:
    """The example of Semantic Versioning 2.0.0, section 11.4.4, in every pairing."""
    ordered = ["1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta", "1.0.0-beta.2", "1.0.0-beta.11", "1.0.0-rc.1", "1.0.0", "2.0.0", "2.1.0", "2.1.1"]  # fmt: skip
    for (i, left), (j, right) in itertools.product(enumerate(ordered), repeat=2):
        assert compare(left, right) == (i > j) - (i < j)


@given(VERSION, VERSION, VERSION)
def test_order_is_total(a: str, b: str, c: str) -> None:
    """Comparing is antisymmetric and transitive."""
    ab, ba, bc, ac = compare(a, b), compare(b, a), compare(b, c), compare(a, c)
    assert ab is not None and ba is not None and bc is not None and ac is not None
    assert ab == -ba
    if ab <= 0 and bc <= 0:
        assert ac <= 0


@given(st.text(max_size=30), st.text(max_size=30))
def test_anything_may_call_itself_a_release(a: str, b: str) -> None:
    """Text that is no version never raises; nobody can tell its order, except that it equals itself."""
    assert compare(a, a) == 0
    assert compare(a, b) in (None, -1, 0, 1)
    assert sorted([a, b, "1.2.3"], key=lambda version: sort_key(version, 5))


@pytest.mark.parametrize("text", ["1.2", "01.2.3", "1.2.3-01", "main", "", "1.2.3-", "1.2.3 "])
def test_what_is_no_version(text: str) -> None:
    """Only what the standard allows is a semantic version."""
    assert parse_semver(text) is None


def test_build_metadata_and_a_leading_v_do_not_count() -> None:
    """Two builds of a version are the same release in the order."""
    assert compare("v1.2.3+one", "1.2.3+two") == 0
