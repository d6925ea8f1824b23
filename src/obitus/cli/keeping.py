"""What ``obitus backup``, ``restore`` and ``verify`` do with a folder of records."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

from obitus.cli.errors import CliError
from obitus.core.clock import to_text
from obitus.core.wording import as_sentence
from obitus.store import examining
from obitus.store.backups import restoring, taking, verifying
from obitus.store.backups.listing import Listing
from obitus.store.database import service_on
from obitus.store.errors import StoreError
from obitus.store.examining import Finding as Finding


def backup(data: Path, folder: Path, *, with_keys: bool) -> dict[str, Any]:
    """Take a backup; return what it holds, and how many files were copied this time. Raises CliError."""
    copied: list[str] = []
    begun_s = time.monotonic()
    try:
        found = taking.take(
            data, folder, time.time_ns() // 1_000_000, with_keys=with_keys, said=lambda name, _: copied.append(name)
        )
    except StoreError as error:
        raise CliError(as_sentence(str(error))) from None
    return _said(found) | {"copied": copied, "seconds": round(time.monotonic() - begun_s, 3)}


def restore(folder: Path, data: Path) -> dict[str, Any]:
    """Bring a backup back; return what it held. Raises CliError."""
    try:
        return _said(restoring.restore(folder, data))
    except StoreError as error:
        raise CliError(as_sentence(str(error))) from None


def verify(data: Path, *, repair: bool) -> list[dict[str, Any]]:
    """Return what is not as it should be. Raises CliError."""
    try:
        found = verifying.verify(data, repair=repair)
    except StoreError as error:
        raise CliError(as_sentence(str(error))) from None
    return [{"what": difference.what, "said": difference.said, "mended": difference.mended} for difference in found]


def examine(data: Path) -> tuple[list[Finding], str | None]:
    """Return what is found of a data folder, and the address of the service that runs on it, None where none does."""
    try:
        address = service_on(data)
    except OSError:
        # A folder of somebody else: what the matter is, the look at its rights says.
        address = None
    return list(examining.examine(data, time.time_ns() // 1_000_000, is_running=address is not None)), address


def _said(listing: Listing) -> dict[str, Any]:
    return {
        "made": to_text(listing.made_ms),
        "schema": listing.schema,
        "files": len(listing.files),
        "bytes": listing.bytes,
    }
