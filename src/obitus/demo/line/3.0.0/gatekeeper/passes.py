"""Boarding passes, for printers that know one code page only."""

import unicodedata

import obitus


LONGEST_MM = 90


class OutOfPaper(Exception):
    """The printer has less paper left than a pass is long."""


def render(name, passenger, paper_mm=LONGEST_MM):
    obitus.mark("pass laid out", columns=32)
    if paper_mm < LONGEST_MM:
        raise OutOfPaper(f"{paper_mm} mm of paper left, a pass needs {LONGEST_MM}")
    lines = ["SKERRY LINE", name.upper(), passenger]
    return b"\n".join(encode(line) for line in lines)


def encode(line):
    return unicodedata.normalize("NFKD", line).encode("ascii", "ignore")
