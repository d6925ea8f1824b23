"""``obitus check``: sends a test report with this shell's settings and says precisely what is wrong.

On the standard library alone: ``python -m obitus check`` works wherever the client is installed.
"""

from __future__ import annotations

import json
import os
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Final

from obitus.client.own_files import make_own
from obitus.client.posting import Connection, PostTrouble
from obitus.client.settings import Settings
from obitus.core.clock import to_ms, to_text
from obitus.core.ids import uuid7
from obitus.core.version import AWAY_BEHIND_PROXY, VERSION, media_type

MOST_CLOCK_DIFFERENCE_MS: Final = 5 * 60_000
TIMEOUT_S: Final = 10.0


@dataclass(frozen=True)
class Finding:
    """One check: its name, whether it passed, and what was found or has to be done."""

    what: str
    right: bool
    said: str


def check(settings: Settings) -> list[Finding]:
    """Check everything between this shell and a stored report; stop at the first check that fails."""
    findings = []
    for finding in _steps(settings):
        findings.append(finding)
        if not finding.right:
            break
    return findings


def as_json(findings: list[Finding]) -> dict[str, Any]:
    """Return the findings in the form that ``--json`` prints."""
    return {"right": all(finding.right for finding in findings), "findings": [asdict(f) for f in findings]}


def _steps(settings: Settings) -> Iterator[Finding]:
    if settings.off:
        yield Finding("switch", False, "Reporting is switched off. Unset OBITUS_OFF to report.")
    yield Finding("switch", True, "Reporting is on.")
    if settings.also is not None:
        yield _also(settings.also)
    if settings.only_file:
        return
    if not settings.url:
        yield Finding("address", False, "OBITUS_URL is not set. Set it to the service's address (Set-up shows it).")
    url = (settings.url or "").rstrip("/")
    if not url.startswith(("http://", "https://")):
        yield Finding("address", False, f"OBITUS_URL is {url!r}. It has to start with http:// or https://.")
    if not settings.key:
        yield Finding("key", False, "OBITUS_KEY is not set. Make one: obitus app add NAME")
    key = settings.key or ""
    health, trouble = _health(url)
    if health is None:
        yield Finding("address", False, trouble)
        return
    yield Finding("address", True, f"{url} answers.")
    if not health["ready"]:
        yield Finding("service", False, f"The service is not ready: {' '.join(map(str, health['reasons']))}")
    version = str(health.get("version", ""))
    same = version.split(".")[:1] == VERSION.split(".")[:1]
    sentence = f"Service {version}, client {VERSION}."
    yield Finding("version", same, sentence if same else f"{sentence} Their first numbers differ: install the same.")
    difference = time.time_ns() // 1_000_000 - to_ms(datetime.fromisoformat(health["time"]))
    ahead = "ahead of" if difference > 0 else "behind"
    if abs(difference) > MOST_CLOCK_DIFFERENCE_MS:
        sentence = f"This clock is {abs(difference) / 1000:.0f} s {ahead} the service's. Set it (times are corrected meanwhile)."
        yield Finding("clock", False, sentence)
    yield Finding("clock", True, f"{abs(difference)} ms {ahead} the service's.")
    yield _send(url, key, settings.release)
    yield _spool(settings)
    yield Finding(
        "logs", True, f"Sent from {_thresholds(settings.logs)}; breadcrumbs from {_thresholds(settings.breadcrumbs)}."
    )
    if settings.release:
        yield Finding("release", True, f"Reports name release {settings.release}.")
    else:
        yield Finding("release", True, "OBITUS_RELEASE is not set: regressions are judged by time.")


def _also(path: Path) -> Finding:
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        with path.open("ab"):
            pass
        size = path.stat().st_size
    except OSError as error:
        return Finding(
            "file", False, f"{path} cannot be written ({error.strerror or error}). Name another file in OBITUS_ALSO."
        )
    return Finding("file", True, f"{path}: {size:,} bytes. Bring it in later: obitus send {path}")


def _spool(settings: Settings) -> Finding:
    folder = settings.spool_of_address
    if folder is None:
        return Finding("spool", True, "Off: reports wait in memory only while the service is away.")
    try:
        make_own(folder)
        waiting = sum(path.stat().st_size for path in folder.glob("*.reports"))
        with tempfile.TemporaryFile(dir=folder):
            pass
    except OSError as error:
        return Finding(
            "spool", False, f"{folder} cannot be used ({error.strerror or error}). Set OBITUS_SPOOL to another folder."
        )
    sentence = (
        f"{waiting:,} bytes of earlier reports wait in it; the app's next start sends them."
        if waiting
        else "Nothing waits in it."
    )
    return Finding("spool", True, f"{folder}. {sentence}")


def _thresholds(by_logger: Mapping[str, str]) -> str:
    others = ", ".join(f"{name} from {severity}" for name, severity in by_logger.items() if name)
    return by_logger[""] + (f" ({others})" if others else "")


def _health(url: str) -> tuple[dict[str, Any] | None, str]:
    try:
        answer = Connection(f"{url}/health").request("GET", b"", {"Connection": "close"}, TIMEOUT_S, TIMEOUT_S)
    except (PostTrouble, ValueError) as error:
        return None, f"{url} cannot be reached: {error}. Is the service running, is the address right?"
    try:
        content = json.loads(answer.body)
        datetime.fromisoformat(content["time"])
        if isinstance(content["reasons"], list) and isinstance(content["ready"], bool):
            return content, ""
    except (ValueError, KeyError, TypeError):
        pass
    if answer.status in AWAY_BEHIND_PROXY:
        return None, f"{url} does not answer: a proxy in front of it says so (status {answer.status}). Is it running?"
    return None, f"{url} answers with status {answer.status}, but it is not Obitus. Compare OBITUS_URL with Set-up."


def _send(url: str, key: str, release: str | None) -> Finding:
    now_ms = time.time_ns() // 1_000_000
    report = {
        "kind": "log",
        "id": str(uuid7(now_ms, os.urandom(10))),
        "time": to_text(now_ms),
        "severity": "INFO",
        "logger": "obitus.check",
        "message": "obitus check",
    }
    if release:
        report["release"] = release
    headers = {
        "Authorization": f"Bearer {key}",
        "Content-Type": media_type("check"),
        "Obitus-Clock": datetime.now(UTC).isoformat(timespec="milliseconds"),
    }
    started = time.perf_counter()
    try:
        sent = {**headers, "Connection": "close"}
        answer = Connection(f"{url}/reports").post(json.dumps(report).encode(), sent, TIMEOUT_S, TIMEOUT_S)
        content = json.loads(answer.body)
    except (PostTrouble, ValueError) as error:
        return Finding("report", False, f"The test report got no answer ({error}). Look at the service's log.")
    took_ms = (time.perf_counter() - started) * 1000
    if answer.status in (401, 403):
        return Finding("key", False, str(content.get("detail", "")))
    if answer.status == 200 and content.get("stored") == 1:
        return Finding("report", True, f"A test report was stored on disk, {took_ms:.0f} ms.")
    lines = content.get("lines") or [{}]
    reason = lines[0].get("reason") or content.get("detail") or f"status {answer.status}"
    return Finding("report", False, f"The test report was refused: {reason}")


def main(arguments: list[str]) -> int:
    """Check, print what was found, and return the exit status: 0 where all is right, 1 where it is not."""
    from obitus.client import settings

    try:
        findings = check(settings.load())
    except settings.SettingTrouble as trouble:
        sys.stderr.write(f"obitus: {trouble}\n")
        return 2
    if "--json" in arguments:
        sys.stdout.write(json.dumps(as_json(findings), indent=2, ensure_ascii=False) + "\n")
    else:
        for finding in findings:
            sys.stdout.write(f"{'right' if finding.right else 'WRONG':<6}{finding.what:<9}{finding.said}\n")
    return 0 if all(finding.right for finding in findings) else 1
