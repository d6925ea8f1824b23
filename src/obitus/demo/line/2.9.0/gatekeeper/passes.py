"""Boarding passes, for printers that know one code page only."""

import unicodedata

import obitus


def render(name, passenger):
    obitus.mark("pass laid out", columns=32)
    lines = ["SKERRY LINE", name.upper(), passenger]
    return b"\n".join(encode(line) for line in lines)


def encode(line):
    return unicodedata.normalize("NFKD", line).encode("ascii", "ignore")
