"""Grouping rules: what is understood, and what each does to a fingerprint."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.frames import ChainLink, Frame
from obitus.core.grouping.recipe import fingerprint
from obitus.core.grouping.rules import HOW, GroupingRule, GroupingRuleTrouble, decide, parse_grouping_rule, value_of
from tests.core.grouping.test_recipe import CHAINS

FACTS: dict[str, Any] = {"type": "ValueError", "app": "sailings", "user.id": "p-1", "tenant": "skerry"}


def chain(message: str = "no fare for 7", caller: str = "board", line: int = 12) -> list[ChainLink]:
    frames = [
        Frame("main", "boarding", "/srv/boarding.py", 90, own=True, code="main()"),
        Frame(caller, "boarding", "/srv/boarding.py", 30, own=True, code="price = price_of(kind)"),
        Frame("passes", "legacy.wrappers", "/srv/legacy/wrappers.py", 5, own=True, code="return inner(*args)"),
        Frame("price_of", "fares", "/srv/fares.py", line, own=True, code="raise ValueError(text)"),
    ]
    return [ChainLink("ValueError", message, frames)]


def text(*rules: str, of: list[ChainLink] | None = None, **facts: Any) -> str:
    parsed = [parse_grouping_rule(rule, number) for number, rule in enumerate(rules, 1)]
    return decide(of or chain(), FACTS | facts, parsed)[0].text


@pytest.mark.parametrize(
    ("rule", "said"),
    [
        ("type=ValueError together", "is nothing that a rule does"), ("together", "Say when"), ("together when", "The condition: At character 1: a term is expected"), ("together when type=", "The condition"),
        ("joined when type=X", "is nothing that a rule does"), ("together with when type=X", "Nothing may come between"), ("apart by when type=X", "Name one to"),
        ("apart by a,b,c,d,e,f when type=X", "Name one to"), ("apart by , , when type=X", "Name one to"), ("skip frames when type=X", "Name the frames"),
        ("own code *a*b*c*d*e* when type=X", "four stars"), ("library code " + "x" * 201 + " when type=X", "Name the frames"), ("together when (type=X", "bracket"),
    ],
)  # fmt: skip
def test_what_is_no_rule(rule: str, said: str) -> None:
    """It is said what is wrong, and what to write."""
    with pytest.raises(GroupingRuleTrouble, match=said) as trouble:
        parse_grouping_rule(rule)
    assert HOW in str(trouble.value) or "condition" in str(trouble.value)


def test_a_rule_is_kept_as_it_is_understood() -> None:
    """Blanks do not matter; an arrow may stand in the condition's quotes."""
    rule = parse_grouping_rule('  apart   by  user.id ,caller   when  message~"b when a" ', 7)
    assert (rule.id, rule.action, rule.names) == (7, "apart", ("user.id", "caller"))
    assert (
        rule.text == 'apart by user.id ,caller when message~"b when a"'
        and parse_grouping_rule(rule.text, 7).names == rule.names
    )


def test_apart_by_what_the_failure_says() -> None:
    """By an attribute, by what stays of the message, by the caller, by the line; and each only where the condition holds."""
    rule = "apart by tenant when app=sailings"
    assert text(rule) != text(rule, tenant="pier") and text(rule) == text(rule, **{"user.id": "p-2"})
    assert text(rule, app="gatekeeper") == text() == text(rule, app="gatekeeper", tenant="pier")
    by_message = "apart by message when type=ValueError"
    assert text(by_message) == text(by_message, of=chain("no fare for 9")) != text(by_message, of=chain("pier is shut"))
    wrapper, by_caller = "skip frames legacy.* when type=ValueError", "apart by caller when type=ValueError"
    assert text(by_caller) == text(by_caller, of=chain(caller="weigh")), "the nearest one is the wrapper"
    assert text(wrapper, by_caller) != text(wrapper, by_caller, of=chain(caller="weigh"))
    by_line = "apart by line when type=ValueError"
    assert text(by_line) != text(by_line, of=chain(line=40))
    assert text("apart by gone when type=ValueError") == text("apart by gone when type=ValueError", tenant="pier")


def test_frames_that_do_not_count() -> None:
    """Ignored by place or file; taken for a library's; where all would go, all stay."""
    for rule in ("skip frames *wrappers.passes", "skip frames /srv/legacy/*", "library code legacy.*"):
        made, _ = decide(chain(), FACTS, [parse_grouping_rule(f"{rule} when type=ValueError")])
        assert all("wrappers" not in spot for spot, _ in made.traits.callers), rule
    assert text("skip frames * when type=ValueError") == text()
    library = [
        ChainLink(
            "ValueError", "", [Frame("go", "pier.lib", "/lib/pier.py", 3, own=False, code="go()"), *chain()[0].frames]
        )
    ]
    made, _ = decide(library, FACTS, [parse_grouping_rule("own code pier.* when type=ValueError")])
    assert made.fault.site is not None and not made.fault.in_library


def test_the_first_that_keeps_together() -> None:
    """Of several, the first; those that part it further hold as well."""
    rules = [
        parse_grouping_rule("together when tenant=pier", 1),
        parse_grouping_rule("together when tenant=skerry", 2),
        parse_grouping_rule("together when type=ValueError", 3),
        parse_grouping_rule("apart by tenant when type=ValueError", 4),
    ]
    made, together = decide(chain(), FACTS, rules)
    assert together is rules[1] and made.apart == (("tenant", "skerry"),)


@given(CHAINS, st.sampled_from(["message", "caller", "line", "user.id", "gone"]))
def test_rules_that_do_not_match_change_nothing(links: list[ChainLink], name: str) -> None:
    """Whatever the failure; and what it is kept apart by can be said of any."""
    never: list[GroupingRule] = [parse_grouping_rule(f"{action} when type=Nobody") for action in ("together", "apart by user.id", "skip frames *", "library code *")]  # fmt: skip
    made, together = decide(links, FACTS, never)
    assert together is None and made.text == fingerprint(links).text
    assert value_of(name, links, FACTS) is not None
