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
    Form("words", ("berth", "BERTH"), "records whose text has the word, whatever its case; words are runs of letters and digits", {"message": "Berth 4 is free"}, {"message": "two berths"}),
    Form("words", ('"vehicle height"',), "the words one after the other, whatever stands between them: a space, a dash, an underscore", {"message": "vehicle_height: none"}, {"message": "height of the vehicle"}),
    Form("words", ("board*", '"vehicle boar"*'), "words that begin so; of several, the last one", {"message": "vehicle boarding"}, {"message": "aboard a vehicle"}),
    Form("compared", ("type=KeyError", '"type"="KeyError"', "not type!=KeyError"), "the value is, or with `!=` is not, exactly that", {"type": "KeyError"}, {"type": "KeyErrors"}),
    Form("compared", ("user.id=p-1*", 'user.id="p-1"*'), "the value begins so", {"user.id": "p-102"}, {"user.id": "x-p-1"}),
    Form("compared", ('message~"no depth"', "message~DEPTH"), "the value contains it, also inside of a word, whatever its case", {"message": "there is no depth"}, {"message": "nothing"}),
    Form("compared", ("passengers>4", "passengers>=5", "not passengers<=4", "not passengers<5"), "numbers by their size, other values by the alphabet", {"passengers": 12}, {"passengers": 3}),
    Form("compared", ("severity>=WARN", "severity>info"), "by their order: TRACE, DEBUG, INFO, WARN, ERROR, FATAL", {"severity": "ERROR"}, {"severity": "INFO"}),
    Form("compared", ("time>-2h", "time>2026-11-25T22:30", "time>2026-11-25T23:30+01:00"), "times; relative ones count back from now (`30m`, `2h`, `14d`), those without an offset are UTC", {"time": NOW_MS - HOUR_MS}, {"time": NOW_MS - 3 * HOUR_MS}),
    Form("compared", ("duration>250ms", "duration>0.25s", "duration>250"), "durations: `us`, `ms`, `s`, `m`, `h`, `d`; a plain number is in the field's own unit", {"duration": 300.0}, {"duration": 200.0}),
    Form("compared", ("http.response.body.size>2MB", "http.response.body.size>=1.5MiB"), "sizes: `kB`, `MB`, `GB` by thousands, `KiB`, `MiB`, `GiB` by 1,024, for fields named size, bytes or length", {"http.response.body.size": 3_000_000}, {"http.response.body.size": 1_000_000}),
    Form("compared", ('user.id=""',), "the field is not there, or empty", {"message": "x"}, {"user.id": "p-1"}),
    Form("exists", ("user.id exists",), "the field is there, whatever its value", {"user.id": "p-1"}, {"message": "x"}),
    Form("all", ("fog user.id=p-1", "fog and user.id=p-1"), "all terms hold; `and` may stand between them", {"message": "fog", "user.id": "p-1"}, {"message": "fog"}),
    Form("any", ("fog or ice", "fog OR ice"), "one of them holds", {"message": "ice on deck"}, {"message": "sun"}),
    Form("negated", ("not fog", "not (fog or ice)"), "it does not hold", {"message": "sun"}, {"message": "fog"}),
    Form("any", ("(fog or ice) severity=ERROR", "severity=ERROR (ice or fog)"), "brackets group: `or` joins less tightly than terms side by side", {"message": "ice", "severity": "ERROR"}, {"message": "ice", "severity": "INFO"}),
)  # fmt: skip


class SummaryForm(NamedTuple):
    """One form of a summary."""

    rule: str
    examples: tuple[str, ...]
    means: str


SUMMARY_FORMS: Final = (
    SummaryForm("counted", ("count", "count by app"), "how many records there are, in all or for each value of a field"),
    SummaryForm("by", ("count by http.response.status_code, entry_point",), "for each pair of values of two fields"),
    SummaryForm("over", ("count over time", "count by severity over time"), "in the course of the window, too"),
    SummaryForm("measured", ("p95 duration by entry_point", "median wait_s", "p99 duration over time"), "the number that half of the values, 95% or 99% of them lie below, off by 1% at most"),
    SummaryForm("measured", ("smallest duration", "largest passengers by skerry.pier", "sum passengers by app over time"), "the smallest or the largest value, or all of them together"),
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
What people ask of failures, logs and runs is written in one small language, on one line:

```
user.id=p-102 entry_point~boardings "vehicle height"
```

The field on the page Search completes names and values that exist; a click on any value shown there adds it to the question. On the
command line: `obitus logs QUESTION`, `obitus runs QUESTION`, `obitus failures QUESTION`, `obitus issues QUESTION`.

## What can be asked

| term | holds for |
| --- | --- |
{forms}

`or`, `not` and `and` are written small or in capitals; to look for the words themselves, quote them. A value with spaces or brackets, or with
a comparison at its start, is quoted; inside quotes a backslash takes the next character as it is. A field whose name has odd characters is
quoted too: `"odd name"=x`.

Fields of their own:

| | fields |
| --- | --- |
| all | `app`, `environment`, `release`, `time`, `received`, `trace_id`, `entry_point`, `run` |
| failures | `type`, `message`, `severity`, `handled` |
| logs | `severity`, `logger`, `message`, `template`, `span_id` |
| runs | `outcome`, `status`, `duration`, `request`, `kept`; whom a run called, as `calls` |

Any other name is an attribute: `host.name=pier-1`, `service.instance.id=…`. Words are looked for in a log's message, in a run's request line and
entry point, and in a failure's type, message and entry point.

What is no question is answered with the place where it stops to be one, and what was expected there.

## What can be counted

A summary says what the records of a question come to. It is written in the second field of the page Search, or as `--summary`:

| summary | gives |
| --- | --- |
{summaries}

Up to 1,000 values are kept apart in an answer, the greatest first. First figures come soon, of the newest records; they say how far back they go.

## How they are answered

`core/asking` reads a text into a tree, and says of any record whether it is meant. The store answers the same tree with SQL over the rows of the
day files (`store/asking`), newest day first, until a page is full. Both give the same answer: a test compares them on random questions and records.

Exact values and words are found by the text index of each day file: it holds the words of texts, and a term for each name and value. Where it
finds more than 2,000 records in a day, looking at the newest rows meets them sooner. Comparisons by size, `~` and `exists` look at the rows of
the window. A question has five seconds; what was not looked at by then is said.

## The grammar

As it is used (the notation is Lark's: `?` before a rule leaves out what has one part, `->` names what a line makes, `.5` is a token's precedence).
A question has up to 2,000 characters, 100 terms, and brackets 30 deep; a summary up to 500 characters.

```
{grammar}
```

```
{summary_grammar}
```
"""
