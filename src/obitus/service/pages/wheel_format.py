"""Writing wheels: zip files with metadata, as the binary distribution format of the Python Packaging User Guide has them."""

from __future__ import annotations

import base64
import hashlib
import io
import zipfile
from collections.abc import Mapping, Sequence
from typing import Final

PYTHON: Final = ">=3.11"
_TIME: Final = (2026, 1, 1, 0, 0, 0)
"""What is in a wheel was always made then: the same files make the same bytes."""


def stem_of(name: str, version: str) -> str:
    """Return what the names of a wheel's file, and of the folders in it that are its own, begin with."""
    return f"{name.replace('-', '_')}-{version}"


def name_of_file(name: str, version: str) -> str:
    """Return what the file of a wheel is called."""
    return f"{stem_of(name, version)}-py3-none-any.whl"


def wheel_of(
    name: str, version: str, files: Mapping[str, bytes], metadata: Sequence[str], *, scripts: Mapping[str, str] | None = None
) -> bytes:  # fmt: skip
    """Return a wheel's bytes. ``files`` are by their place in it, ``metadata`` what its head says beside name and version."""
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
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for place, content in inside.items():
            entry = zipfile.ZipInfo(place, _TIME)
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = 0o644 << 16
            archive.writestr(entry, content)
    return made.getvalue()


def _digest(content: bytes) -> str:
    return base64.urlsafe_b64encode(hashlib.sha256(content).digest()).decode().rstrip("=")
