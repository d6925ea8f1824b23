"""Writing wheels: zip files with metadata, by the binary distribution format of the Python Packaging User Guide."""

from __future__ import annotations

import base64
import hashlib
import io
import zipfile
from collections.abc import Mapping, Sequence
from typing import Final

PYTHON: Final = ">=3.11"
_TIME: Final = (2026, 1, 1, 0, 0, 0)
"""Constant time of files in a wheel: the same files make the same bytes."""


def stem_of(name: str, version: str) -> str:
    """Return the prefix of the names of a wheel's file and of its own folders."""
    return f"{name.replace('-', '_')}-{version}"


def name_of_file(name: str, version: str) -> str:
    """Return the file name of a wheel."""
    return f"{stem_of(name, version)}-py3-none-any.whl"


def wheel_of(
    name: str, version: str, files: Mapping[str, bytes], metadata: Sequence[str], *, scripts: Mapping[str, str] | None = None
) -> bytes:  # fmt: skip
    """Return a wheel's bytes. ``files`` are by their path in it, ``metadata`` has headers in addition to name and version."""
    info = f"{stem_of(name, version)}.dist-info"
    head = ["Metadata-Version: 2.1", f"Name: {name}", f"Version: {version}", f"Requires-Python: {PYTHON}", *metadata]
    inside = dict(files)
    inside[f"{info}/METADATA"] = ("\n".join(head).rstrip("\n") + "\n").encode()
    inside[f"{info}/WHEEL"] = b"Wheel-Version: 1.0\nGenerator: obitus\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
    if scripts:
        lines = "".join(f"{script} = {entry}\n" for script, entry in scripts.items())
        inside[f"{info}/entry_points.txt"] = f"[console_scripts]\n{lines}".encode()
    record = [f"{place},sha256={_digest(content)},{len(content)}" for place, content in inside.items()]
    inside[f"{info}/RECORD"] = "\n".join([*record, f"{info}/RECORD,,", ""]).encode()
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for place, content in inside.items():
            entry = zipfile.ZipInfo(place, _TIME)
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = 0o644 << 16
            archive.writestr(entry, content)
    return buffer.getvalue()


def _digest(content: bytes) -> str:
    return base64.urlsafe_b64encode(hashlib.sha256(content).digest()).decode().rstrip("=")
