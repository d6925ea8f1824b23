"""Bounding an OTLP export in protobuf before it is parsed: a record of two bytes becomes an object of a hundred.

Source: the Protocol Buffers encoding (tags, varints, lengths), and the numbers of the fields of ExportLogsServiceRequest
and ExportTraceServiceRequest, which are the same for both: resources 1, scopes 2, records 2.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

_RESOURCES, _SCOPES, _RECORDS = 1, 2, 2
_BYTES: Final = 2
MOST_COUNTED: Final = 100_000
"""Most left out records that are counted; there may be more."""


class WireTrouble(ValueError):
    """The bytes are no protobuf message."""


def bounded_export(data: bytes, most_records: int, most_resources: int) -> tuple[bytes, int]:
    """Return an export with only its first records, and how many were left out; the same bytes where all are within the bound."""
    pieces: list[bytes] = []
    records = left_out = resources = 0
    for field, start, begin, end in _fields(data, 0, len(data)):
        if field != _RESOURCES:
            pieces.append(data[start:end])
            continue
        resources += 1
        if resources > most_resources or left_out >= MOST_COUNTED:
            left_out += 1
            continue
        scopes: list[bytes] = []
        cut = False
        for inner, scope_start, scope_begin, scope_end in _fields(data, begin, end):
            if inner != _SCOPES:
                scopes.append(data[scope_start:scope_end])
                continue
            parts: list[bytes] = []
            before = left_out
            for name, record_start, _, record_end in _fields(data, scope_begin, scope_end):
                if name == _RECORDS:
                    records += 1
                    if records > most_records:
                        left_out += 1
                        if left_out >= MOST_COUNTED:
                            break
                        continue
                parts.append(data[record_start:record_end])
            cut = cut or left_out > before
            scopes.append(message(_SCOPES, b"".join(parts)) if left_out > before else data[scope_start:scope_end])
        pieces.append(message(_RESOURCES, b"".join(scopes)) if cut else data[start:end])
    return (b"".join(pieces), left_out) if left_out else (data, 0)


def _fields(data: bytes, start: int, end: int) -> Iterator[tuple[int, int, int, int]]:
    """Yield the number of each field, where it starts, where its content begins, and where it ends."""
    while start < end:
        tag, at = _read_varint(data, start, end)
        kind = tag & 7
        begin = at
        if kind == _BYTES:
            length, begin = _read_varint(data, at, end)
            stop = begin + length
        elif kind == 0:
            _, stop = _read_varint(data, at, end)
        elif kind in (1, 5):
            stop = at + (8 if kind == 1 else 4)
        else:
            raise WireTrouble("a field has a kind that is none")
        if stop > end:
            raise WireTrouble("a field is longer than the message that contains it")
        yield tag >> 3 if kind == _BYTES else 0, start, begin, stop
        start = stop


def _read_varint(data: bytes, at: int, end: int) -> tuple[int, int]:
    value = shift = 0
    while at < end and shift < 64:
        byte = data[at]
        at += 1
        value |= (byte & 0x7F) << shift
        if byte < 0x80:
            return value, at
        shift += 7
    raise WireTrouble("a number has no end")


def varint(number: int) -> bytes:
    """Encode a number as a varint: seven bits a byte, the lowest first."""
    out = bytearray()
    while number > 0x7F:
        out.append(number & 0x7F | 0x80)
        number >>= 7
    return bytes([*out, number])


def message(field: int, content: bytes) -> bytes:
    """Encode a field of bytes: its tag, the length, and the bytes."""
    return bytes([field << 3 | _BYTES]) + varint(len(content)) + content
