"""The reference of the language of questions: ``docs/questions.md`` is made of this, and a test runs every example.
Each form names its rule of the grammar, a record that matches its examples, and one that does not.
"""

from __future__ import annotations

from typing import Any, Final, NamedTuple

from obitus.core.asking.reading import GRAMMAR
from obitus.core.asking.summaries import GRAMMAR as SUMMARY_GRAMMAR
from obitus.core.clock import HOUR_MS

NOW_MS: Final = 1_795_651_200_000
"""2026-11-26T00:00:00Z: relative times in the examples count back from here."""


class Form(NamedTuple):
    """One form of a term."""

    rule: str
    """The rule of the grammar."""
    examples: tuple[str, ...]
    means: str
    record: dict[str, Any]
    """A record that matches each of the examples."""
    other: dict[str, Any]
    """One that matches none of them."""


FORMS: Final = (
    Form("words", ("berth", "BERTH"), "records whose text contains the word, upper or lower case; a word is a run of letters and digits", {"message": "Berth 4 is free"}, {"message": "two berths"}),
    Form("words", ('"vehicle height"',), "these words one after the other, with anything between them: a space, a dash, an underscore", {"message": "vehicle_height: none"}, {"message": "height of the vehicle"}),
    Form("words", ("数据库",), "of scripts without spaces between words each letter is a word: these stand next to each other, anywhere in the text", {"message": "无法连接数据库"}, {"message": "据数库"}),
    Form("words", ("board*", '"vehicle boar"*'), "words that begin like this; of several words, the last one", {"message": "vehicle boarding"}, {"message": "aboard a vehicle"}),
    Form("compared", ("type=KeyError", '"type"="KeyError"', "not type!=KeyError"), "the value is exactly this, or with `!=` is not", {"type": "KeyError"}, {"type": "KeyErrors"}),
    Form("compared", ("user.id=p-1*", 'user.id="p-1"*'), "the value begins like this", {"user.id": "p-102"}, {"user.id": "x-p-1"}),
    Form("compared", ('message~"no depth"', "message~DEPTH"), "the value contains this, also inside a word, upper or lower case", {"message": "there is no depth"}, {"message": "nothing"}),
    Form("compared", ("passengers>4", "passengers>=5", "not passengers<=4", "not passengers<5"), "numbers are compared by size, other values alphabetically", {"passengers": 12}, {"passengers": 3}),
    Form("compared", ("severity>=WARN", "severity>info"), "severities are compared in their order: TRACE, DEBUG, INFO, WARN, ERROR, FATAL", {"severity": "ERROR"}, {"severity": "INFO"}),
    Form("compared", ("time>-2h", "time>2026-11-25T22:30", "time>2026-11-25T23:30+01:00"), "times; relative ones count back from now (`30m`, `2h`, `14d`), those without an offset are UTC", {"time": NOW_MS - HOUR_MS}, {"time": NOW_MS - 3 * HOUR_MS}),
    Form("compared", ("duration>250ms", "duration>0.25s", "duration>250"), "durations: `us`, `ms`, `s`, `m`, `h`, `d`; a plain number is in the field's own unit", {"duration": 300.0}, {"duration": 200.0}),
    Form("compared", ("http.response.body.size>2MB", "http.response.body.size>=1.5MiB"), "sizes: `kB`, `MB`, `GB` by thousands, `KiB`, `MiB`, `GiB` by 1,024, for fields named size, bytes or length", {"http.response.body.size": 3_000_000}, {"http.response.body.size": 1_000_000}),
    Form("compared", ('user.id=""',), "the field is absent or empty", {"message": "x"}, {"user.id": "p-1"}),
    Form("exists", ("user.id exists",), "the field is present, whatever its value", {"user.id": "p-1"}, {"message": "x"}),
    Form("all", ("fog user.id=p-1", "fog and user.id=p-1"), "all terms match; `and` between them is optional", {"message": "fog", "user.id": "p-1"}, {"message": "fog"}),
    Form("any", ("fog or ice", "fog OR ice"), "at least one of them matches", {"message": "ice on deck"}, {"message": "sun"}),
    Form("negated", ("not fog", "not (fog or ice)"), "the term does not match", {"message": "sun"}, {"message": "fog"}),
    Form("any", ("(fog or ice) severity=ERROR", "severity=ERROR (ice or fog)"), "brackets group: without them, terms side by side belong together before `or` applies", {"message": "ice", "severity": "ERROR"}, {"message": "ice", "severity": "INFO"}),
)  # fmt: skip


class SummaryForm(NamedTuple):
    """One form of a summary."""

    rule: str
    examples: tuple[str, ...]
    means: str


SUMMARY_FORMS: Final = (
    SummaryForm("counted", ("count", "count by app"), "how many records there are, in all or for each value of a field"),
    SummaryForm("by", ("count by http.response.status_code, entry_point",), "one figure for each pair of values of two fields"),
    SummaryForm("over", ("count over time", "count by severity over time"), "also one figure for each slot of time in the window"),
    SummaryForm("measured", ("p95 duration by entry_point", "median wait_s", "p99 duration over time"), "the number below which half, 95% or 99% of the values are, with an error of 1% at most"),
    SummaryForm("measured", ("smallest duration", "largest passengers by skerry.pier", "sum passengers by app over time"), "the smallest or the largest value, or their sum"),
)  # fmt: skip


def page(made: str) -> str:
    """Return the reference as a page in Markdown; ``made`` is the note that it is generated."""

    def code(texts: tuple[str, ...]) -> str:
        # A bar would end the cell.
        return ", ".join(f"`{text}`".replace("|", "\\|") for text in texts)

    forms = "\n".join(f"| {code(form.examples)} | {form.means} |" for form in FORMS)
    summaries = "\n".join(f"| {code(form.examples)} | {form.means} |" for form in SUMMARY_FORMS)
    return _PAGE.format(
        made=made, forms=forms, summaries=summaries, grammar=GRAMMAR.strip(), summary_grammar=SUMMARY_GRAMMAR.strip()
    )


_PAGE: Final = """# Questions

{made}
Questions about failures, logs and runs are written in one small language, on one line:

```
user.id=p-102 entry_point~boardings "vehicle height"
```

The field on the page Search completes names and values that exist; a click on any value shown there adds it to the question. On the
command line: `obitus logs QUESTION`, `obitus runs QUESTION`, `obitus failures QUESTION`, `obitus issues QUESTION`.

## What can be asked

| term | matches |
| --- | --- |
{forms}

`or`, `not` and `and` are written in lower case or in capitals; to look for the words themselves, quote them. A value with spaces or brackets, or with
a comparison at its start, is quoted; inside quotes a backslash takes the next character as it is. A field whose name has odd characters is
quoted too: `"odd name"=x`.

Fields that every record of a kind has:

| | fields |
| --- | --- |
| all | `app`, `environment`, `release`, `time`, `received`, `trace_id`, `entry_point`, `run` |
| failures | `type`, `message`, `severity`, `handled` |
| logs | `severity`, `logger`, `message`, `template`, `span_id` |
| runs | `outcome`, `status`, `duration`, `request`, `kept`, and `calls` for what a run called |

Any other name is an attribute: `host.name=pier-1`, `service.instance.id=…`. Words are searched in a log's message, in a run's request line and
entry point, and in a failure's type, message and entry point.

The answer to a text that is not a question names the character where it goes wrong, and what was expected there.

## What can be counted

A summary computes figures of the records that match a question. It is written in the second field of the page Search, or as `--summary`:

| summary | gives |
| --- | --- |
{summaries}

An answer has up to 1,000 values, the greatest first. Preliminary figures of the newest records arrive first, and say how far back they go.

## How they are answered

`core/asking` parses a text into a tree, and decides for any record whether it matches. The store answers the same tree with SQL over the rows of the
day files (`store/asking`), newest day first, until a page is full. A test compares the two on random questions and records.

Exact values and words are found with the text index of each day file, which has the words of texts and a term for each name and value. Where it
finds more than 2,000 records in a day, the newest rows are read instead, which is faster. Comparisons by size, `~` and `exists` read the rows of
the window. A question may take five seconds; the answer says which part of the window was not searched by then.

## The grammar

This is the grammar that the parser uses, in Lark's notation: a rule with `?` is left out of the tree where it has one child, `->` names the node that a line makes, `.5` is a token's precedence.
A question has up to 2,000 characters, 100 terms, and brackets 30 deep; a summary up to 500 characters.

```
{grammar}
```

```
{summary_grammar}
```
"""
