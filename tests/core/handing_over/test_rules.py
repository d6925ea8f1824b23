"""Hand-over rules: verb first, a person, a condition; what is none says what to write."""

from __future__ import annotations

import pytest

from obitus.core.handing_over.rules import HandingRuleTrouble, parse_handing_rule, those_that_hold


def test_a_rule_is_understood() -> None:
    """Blanks do not matter, and a name may have several words."""
    rule = parse_handing_rule("  hand  to  Ida   Moss  when  app=sailings   file~fares ", 3)
    assert (rule.id, rule.to, rule.text) == (3, "Ida Moss", "hand to Ida Moss when app=sailings   file~fares")
    facts = {"app": "sailings", "file": "src/fares.py", "type": "KeyError", "message": "pier"}
    other = parse_handing_rule("hand to Olav when entry_point~boardings or type=KeyError")
    assert those_that_hold([rule, other], facts) == [rule, other]
    assert those_that_hold([rule, other], facts | {"app": "gatekeeper"}) == [other]
    assert those_that_hold([rule], {}) == []


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "Write: hand to NAME when CONDITION"),
        ("together when type=KeyError", "is no hand-over rule"),
        ("hand to when app=x", "is no hand-over rule"),
        ("hand to Ida", "is no hand-over rule"),
        ("hand to Ida when", "is no hand-over rule"),
        ("hand to Ida when (app=x", "The condition: "),
        ("hand to Ida when " + "x" * 2000, "is no hand-over rule"),
    ],
)
def test_what_is_no_rule(text: str, says: str) -> None:
    """The trouble says what to write instead."""
    with pytest.raises(HandingRuleTrouble) as raised:
        parse_handing_rule(text)
    assert says in str(raised.value)
