"""The language's reference: every example does what stands beside it, and no rule of the grammar is left out."""

from __future__ import annotations

import pytest
from lark import Tree

from obitus.core.asking import holds, read
from obitus.core.asking.reading import _parser
from obitus.core.asking.reference import FORMS, NOW_MS, SUMMARY_FORMS, Form, SummaryForm, page
from obitus.core.asking.summaries import _parser as _summary_parser
from obitus.core.asking.summaries import read_summary, written

TEXTS = ("message", "type", "entry_point", "request")


def rules_in(tree: object) -> set[str]:
    return {str(inner.data) for inner in tree.iter_subtrees()} if isinstance(tree, Tree) else set()


@pytest.mark.parametrize(("form", "example"), [(form, example) for form in FORMS for example in form.examples])
def test_every_example(form: Form, example: str) -> None:
    """It is written by the rule that it is listed under, means the one record, and not the other."""
    assert form.rule in rules_in(_parser().parse(example))
    node = read(example, NOW_MS)
    assert holds(node, form.record, TEXTS) and not holds(node, form.other, TEXTS)


@pytest.mark.parametrize(("form", "example"), [(form, example) for form in SUMMARY_FORMS for example in form.examples])
def test_every_summary(form: SummaryForm, example: str) -> None:
    assert form.rule in rules_in(_summary_parser().parse(example))
    assert written(read_summary(example)) == example


def test_names_of_any_alphabet() -> None:
    """A field whose name begins with a letter of another alphabet needs no quotes."""
    for text in ("count by årskort", "p95 дальность by måned, пирс over time"):
        assert written(read_summary(text)) == text


def test_no_rule_is_left_out() -> None:
    """What the grammar can say is described."""
    for parser, forms in ((_parser(), FORMS), (_summary_parser(), SUMMARY_FORMS)):
        named = {str(rule.alias or rule.origin.name) for rule in parser.rules}
        rules = {name for name in named if not name.startswith("_")} - {"start", "what", "one"}
        assert rules <= {form.rule for form in forms}, rules


def test_the_page_shows_all() -> None:
    text = page("made")
    assert all(example in text for form in FORMS for example in form.examples)
    assert all(example in text for form in SUMMARY_FORMS for example in form.examples)
