"""The client's settings: from arguments, else from the environment."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Final

from obitus.core.redaction.rules import Rule, RuleTrouble, parse_rules
from obitus.core.severity import ThresholdTrouble, parse_thresholds

ENVIRONMENT_NAMES: Final = {
    "OBITUS_URL": "Address of the service, e.g. http://127.0.0.1:8611.",
    "OBITUS_KEY": "Reporting key of this app and environment.",
    "OBITUS_RELEASE": "Version of this app, e.g. 2.9.0.",
    "OBITUS_ENVIRONMENT": "Environment this app believes it runs in; the key decides, this is kept as an attribute.",
    "OBITUS_OWN": "Modules that are own code although they are installed like libraries: `skerry, ferry_core`.",
    "OBITUS_OFF": "1, true, yes or on: report nothing at all.",
    "OBITUS_LOGS": "Lowest severity of log records that are sent, by logger: `WARN, sailings.fares=DEBUG, noisy=off`. Default: WARN.",
    "OBITUS_LOGS_FIXED": "1, true, yes or on: people at the service cannot let loggers send more, or less, for a while.",
    "OBITUS_BREADCRUMBS": "Lowest severity of log records that become breadcrumbs, by logger, in the same form. Default: INFO.",
    "OBITUS_LEAVE_OUT": "Kinds of breadcrumbs to leave out: `http, statement, log, process`.",
    "OBITUS_HIDE": "Redaction rules in addition to the built-in ones, one a line: `name vessel pin`, `e-mail`, …",
    "OBITUS_SPOOL": "Folder where reports wait while the service is away; `off` keeps them in memory only.",
    "OBITUS_ALSO": "A file to which reports are written as well as to the service or, without OBITUS_URL, instead: `file:/var/spool/ferry/reports.ndjson`. `obitus send` imports it.",
    "OBITUS_TRACEPOINTS": "1, true, yes or on: people may set tracepoints in this app; or the environments where they may: `staging, test`.",
    "OBITUS_EXIT_S": "Most seconds that a process takes at its end to send its reports: 2; with 0 the next start sends them.",
}
KINDS_TO_LEAVE_OUT: Final = ("http", "statement", "log", "process", "mark", "failure")
MIB: Final = 1024 * 1024

Edit = Callable[[dict[str, Any]], dict[str, Any] | None]


@dataclass(frozen=True)
class Settings:
    """The address, the key, and what is reported."""

    url: str | None
    key: str | None
    release: str | None
    environment: str | None
    off: bool
    users: bool = True
    """Whether the user is taken from frameworks that know it, such as Django's ``request.user``."""
    own: tuple[str, ...] = ()
    """Modules that are own code although they are installed like libraries."""
    logs: Mapping[str, str] = field(default_factory=lambda: {"": "WARN"})
    """From which severity a logger's records are sent as log reports."""
    logs_fixed: bool = False
    """Whether people at the service cannot let loggers send more, or less, for a while."""
    breadcrumbs: Mapping[str, str] = field(default_factory=lambda: {"": "INFO"})
    """From which severity a logger's records become breadcrumbs."""
    leave_out: frozenset[str] = frozenset()
    """Kinds of breadcrumbs that are not kept."""
    hide: tuple[Rule, ...] = ()
    """The team's redaction rules."""
    edit: Edit | None = None
    """May change a report before it is redacted and sent, or drop it by returning None."""
    values: bool = True
    """Whether local values are captured."""
    source: bool = True
    """Whether source lines are sent."""
    exits: bool = False
    """Whether leaving with a non-zero status (SystemExit) counts as a failure."""
    failures_per_second: float = 25.0
    """Failures a second that are captured whole; a burst may be eight seconds' worth."""
    spool: Path | None = None
    """Folder where reports wait while the service is away."""
    spool_bytes: int = 64 * MIB
    """Most bytes that wait there; the oldest go first."""
    spool_hours: float = 7 * 24.0
    """Longest time that they wait there."""
    also: Path | None = None
    """A file to which reports are written as well as to the service or, where no service is set, instead."""
    tracepoints: tuple[str, ...] | None = None
    """Environments in which people may set tracepoints in this app, empty for all; None where they may not."""
    tracepoints_share: float = 0.01
    """Share of one processor that all tracepoints of a process may use; one that goes beyond it is switched off."""
    exit_s: float = 2.0
    """Longest time that the end of a process may take to send its reports."""

    @property
    def spool_of_address(self) -> Path | None:
        """The part of the spool for this service and key, or for a file alone: apps do not send each other's reports."""
        if self.spool is None:
            return None
        goal = str(self.also) if self.only_file else f"{(self.url or '').rstrip('/')} {self.key}"
        return self.spool / hashlib.sha256(goal.encode()).hexdigest()[:20]

    @property
    def only_file(self) -> bool:
        """Whether reports go to a file alone: no service is named."""
        return self.also is not None and not self.url

    @property
    def missing(self) -> str | None:
        """The name of a setting without which nothing can be reported."""
        if self.only_file:
            return None
        if not self.url:
            return "OBITUS_URL"
        return None if self.key else "OBITUS_KEY"


class SettingTrouble(ValueError):
    """Raised for a setting that cannot be understood; the message names it and says what to write."""


def load(
    *,
    url: str | None = None,
    key: str | None = None,
    release: str | None = None,
    environment: str | None = None,
    off: bool | None = None,
    logs: str | None = None,
    logs_fixed: bool | None = None,
    breadcrumbs: str | None = None,
    leave_out: Sequence[str] | None = None,
    hide: Sequence[str] | None = None,
    spool: str | os.PathLike[str] | None = None,
    also: str | os.PathLike[str] | None = None,
    exit_s: float | None = None,
    tracepoints: bool | Sequence[str] | None = None,
    own: Sequence[str] = (),
    environ: Mapping[str, str] | None = None,
    **more: Any,
) -> Settings:
    """Return the settings; what is not given comes from the environment. Raises SettingTrouble.

    ``more`` are the fields of Settings that have no environment variable.
    """
    variables = os.environ if environ is None else environ

    def choose(given: str | None, name: str) -> str | None:
        value = given if given is not None else variables.get(name)
        return value.strip() or None if value else None

    def is_on(name: str) -> bool:
        return variables.get(name, "").strip().lower() in ("1", "true", "yes", "on")

    switched_off = is_on("OBITUS_OFF")
    left_out = (
        leave_out if leave_out is not None else (variables.get("OBITUS_LEAVE_OUT") or "").replace(",", " ").split()
    )
    unknown = [kind for kind in left_out if kind not in KINDS_TO_LEAVE_OUT]
    if unknown:
        raise SettingTrouble(f"OBITUS_LEAVE_OUT: {unknown[0]!r} is none of {', '.join(KINDS_TO_LEAVE_OUT)}.")
    try:
        rules = parse_rules(
            hide if hide is not None else filter(str.strip, (variables.get("OBITUS_HIDE") or "").splitlines())
        )
        thresholds = parse_thresholds(choose(logs, "OBITUS_LOGS") or "", "WARN")
        kept = parse_thresholds(choose(breadcrumbs, "OBITUS_BREADCRUMBS") or "", "INFO")
    except (RuleTrouble, ThresholdTrouble) as trouble:
        raise SettingTrouble(f"the settings of Obitus: {trouble}") from None
    if exit_s is None:
        exit_s = _seconds(variables.get("OBITUS_EXIT_S"), "OBITUS_EXIT_S", 2.0)
    folder = os.fspath(spool) if spool is not None else (variables.get("OBITUS_SPOOL") or "")
    return Settings(
        url=choose(url, "OBITUS_URL"),
        key=choose(key, "OBITUS_KEY"),
        release=choose(release, "OBITUS_RELEASE"),
        environment=choose(environment, "OBITUS_ENVIRONMENT"),
        off=switched_off if off is None else off,
        logs=thresholds,
        logs_fixed=is_on("OBITUS_LOGS_FIXED") if logs_fixed is None else logs_fixed,
        breadcrumbs=kept,
        leave_out=frozenset(left_out),
        hide=rules,
        spool=None
        if folder.strip().lower() == "off"
        else Path(folder.strip())
        if folder.strip()
        else default_spool(variables),
        also=_file_of(os.fspath(also) if also is not None else choose(None, "OBITUS_ALSO")),
        exit_s=max(0.0, exit_s),
        tracepoints=_where(variables.get("OBITUS_TRACEPOINTS") or "" if tracepoints is None else tracepoints),
        own=tuple(own) or tuple((variables.get("OBITUS_OWN") or "").replace(",", " ").split()),
        **more,
    )


def _where(allowed: str | bool | Sequence[str]) -> tuple[str, ...] | None:
    """Return the environments that a switch names, none for all; None where it is off."""
    if isinstance(allowed, str):
        word = allowed.strip().lower()
        if word in ("", "0", "false", "no", "off"):
            return None
        allowed = True if word in ("1", "true", "yes", "on") else allowed.replace(",", " ").split()
    if isinstance(allowed, bool):
        return () if allowed else None
    return tuple(allowed) or None


def _file_of(text: str | None) -> Path | None:
    """Return the file that a second destination names: ``file:/var/spool/ferry/reports.ndjson``."""
    if not text:
        return None
    kind, _, path = text.partition(":")
    if kind != "file" or not Path(path.removeprefix("//")).is_absolute():
        raise SettingTrouble(
            f"OBITUS_ALSO: {text!r} is no file. Say file:/var/spool/ferry/reports.ndjson, with the whole path."
        )
    return Path(path.removeprefix("//"))


def _seconds(text: str | None, name: str, default: float) -> float:
    if not text or not text.strip():
        return default
    try:
        seconds = float(text)
    except ValueError:
        seconds = -1.0
    if not 0 <= seconds <= 3600:
        raise SettingTrouble(f"{name}: {text!r} is no number of seconds.")
    return seconds


def default_spool(environ: Mapping[str, str]) -> Path | None:
    """Return the default folder of the spool: the user's state folder, else the folder for temporary files. None
    where neither can be used: then reports wait in memory.
    """
    home = environ.get("XDG_STATE_HOME") or (environ.get("HOME") and environ["HOME"] + "/.local/state")
    if home and Path(home).is_absolute():
        return Path(home) / "obitus" / "spool"
    import tempfile

    user = os.getuid() if hasattr(os, "getuid") else "user"
    try:
        return Path(tempfile.gettempdir()) / f"obitus-spool-{user}"
    except OSError:
        return None
