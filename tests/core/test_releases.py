"""The order of releases."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.releases import DatedRelease, ReleaseOrder, canonical, compare, in_order, parse_semver

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
    assert {r.version for r in in_order([DatedRelease(a, 5), DatedRelease(b, 5), DatedRelease("1.2.3", 5)])} == {
        a,
        b,
        "1.2.3",
    }


@pytest.mark.parametrize("text", ["1.2", "01.2.3", "1.2.3-01", "main", "", "1.2.3-", "1.2.3 "])
def test_what_is_no_version(text: str) -> None:
    """Only what the standard allows is a semantic version."""
    assert parse_semver(text) is None


def test_build_metadata_and_a_leading_v_do_not_count() -> None:
    """Two builds of a version are the same release in the order."""
    assert compare("v1.2.3+one", "1.2.3+two") == 0


@given(
    st.dictionaries(
        st.one_of(VERSION, st.text("abcdef0123456789", min_size=7, max_size=7)), st.integers(0, 99), max_size=12
    )
)
def test_one_order_whatever_order_they_came_in(known: dict[str, int]) -> None:
    """All releases have one order: it does not depend on how they are given, and keeps what versions say and what time says."""
    releases = [DatedRelease(version, first_ms) for version, first_ms in known.items()]
    ordered = in_order(releases)
    assert ordered == in_order(reversed(releases)) and len(ordered) == len(known)
    order = ReleaseOrder(releases)
    for earlier, later in itertools.combinations(ordered, 2):
        if (said := compare(earlier.version, later.version)) is not None:
            assert said <= 0
        assert order.compare(earlier.version, later.version) == -1


@pytest.mark.parametrize(
    "ordered",
    [
        ["2025.12.31", "2026.01.01", "2026.1.2", "2026.11.25"],
        ["2026-11-25", "2026-11-25-2", "2026-11-26"],
        ["20261124", "20261125", "20261201"],
        ["26.04", "26.04.1", "26.10"],
        ["1.2", "1.2.1", "1.10"],
        ["4.0.0.100", "4.0.0.101"],
        ["1.4rc1", "1.4", "1.4.post1"],
        ["2026.4.0-rc.1", "2026.4.0", "2026.4.1"],
    ],
)
def test_versions_of_numbers(ordered: list[str]) -> None:
    """Calendar versions, and versions with more or fewer parts than the standard's, are ordered by their numbers."""
    shuffled = [DatedRelease(version, i * 7 % 5) for i, version in enumerate(ordered)]
    assert [release.version for release in in_order(shuffled)] == ordered


def test_hashes_and_words_by_first_coming() -> None:
    """Commit hashes and free text stand by when they first came, among versions too."""
    known = [
        DatedRelease("beef001", 30),
        DatedRelease("2.0.0", 20),
        DatedRelease("a1b2c3d", 10),
        DatedRelease("1.0.0", 5),
        DatedRelease("hotfix of Ida", 40),
    ]
    assert [r.version for r in in_order(known)] == ["1.0.0", "a1b2c3d", "2.0.0", "beef001", "hotfix of Ida"]


def test_a_person_corrects_the_order() -> None:
    """What was put behind a release stands right behind it; a circle, or a release that is gone, loses nothing."""
    known = [
        DatedRelease("1.0.0", 1),
        DatedRelease("2.0.0", 2),
        DatedRelease("hotfix", 9, "1.0.0"),
        DatedRelease("3.0.0", 3, "gone"),
        DatedRelease("x", 8, "y"),
        DatedRelease("y", 7, "x"),
    ]
    found = [r.version for r in in_order(known)]
    assert found[:4] == ["1.0.0", "hotfix", "2.0.0", "3.0.0"] and sorted(found[4:]) == ["x", "y"]
    order = ReleaseOrder(known)
    assert order.compare("hotfix", "2.0.0") == -1 and order.before("2.0.0") == ["hotfix", "1.0.0"]
    assert (
        order.compare("2.5.0", "3.0.0") == -1
        and order.compare("2.5.0", "hotfix") is None
        and order.first_ms("2.5.0") is None
    )


@pytest.mark.parametrize(
    ("spelled", "one"),
    [("v3.1.0", "3.1.0"), (" 3.1.0 ", "3.1.0"), ("V3.1.0", "3.1.0"), ("release-3.1.0", "3.1.0"), ("release 3.1", "3.1"), ("3.1.0+b7", "3.1.0+b7"),
     ("verdigris", "verdigris"), ("v", "v"), ("v2", "v2"), ("version of Ida", "version of Ida"), ("", ""), ("main\t7", "main 7")],
)  # fmt: skip
def test_one_spelling(spelled: str, one: str) -> None:
    """The same release under two spellings is one; what is no version keeps its name."""
    assert canonical(spelled) == one and canonical(one) == one
