"""To whom an unassigned issue is handed: by the team's rules first, then by CODEOWNERS."""

from __future__ import annotations

import logging
from collections.abc import Iterator, Sequence
from typing import Any, Final

from obitus.core.frames import ChainLink, Frame
from obitus.core.grouping.fault import locate
from obitus.core.handing_over.owners import Owners, read_owners, who_is_meant
from obitus.core.handing_over.rules import HandingRule, HandingRuleTrouble, parse_handing_rule, those_that_hold
from obitus.service.intake.chains import asked_about, chain_of
from obitus.store import handing as store
from obitus.store import issues as issue_store
from obitus.store.records import Records
from obitus.store.rows.issues import Issue
from obitus.store.rows.triage import OwnerFile
from obitus.store.rules import HANDING

_log = logging.getLogger("obitus.service")

MOST_FRAMES: Final = 30
"""Own frames of a stack whose files are looked up, from the innermost outward."""


class Takers:
    """The present rules, CODEOWNERS and names. Read once for several issues."""

    def __init__(self, records: Records, rules: Sequence[HandingRule] | None = None) -> None:
        """Read from some records; ``rules`` are the rules to use, by default the active ones."""
        self._records = records
        self._rules = active_rules(records) if rules is None else rules
        self._files: dict[int, tuple[Owners, str] | None] = {}
        self._people: list[str] | None = None
        self._names: dict[str, str] = {}

    def of(self, issue: Issue) -> list[tuple[str, str]]:
        """Return who may take an issue, each with the reason in words, the first choice first."""
        file = self._file(issue.app_id)
        content = self._records.evidence.content(issue.last_seq) if self._rules or file else None
        if content is None:
            return []
        chain = chain_of(content)
        where = issue_store.failure_with_seq(self._records.reader, issue.last_seq).environment
        facts = asked_about(content, chain, issue.app, where) | _of_frame(locate(chain).site)
        found = [(rule.to, f"the rule “{rule.text}”") for rule in those_that_hold(self._rules, facts)]
        return [*found, *(self._owners(file, chain) if file else ())]

    def use_file(self, app_id: int, owners: Owners, beneath: str) -> None:
        """Use a file that is not stored, for a preview."""
        self._files[app_id] = (owners, beneath)

    def _file(self, app_id: int) -> tuple[Owners, str] | None:
        if app_id not in self._files:
            row = store.owner_file(self._records.reader, app_id)
            self._files[app_id] = None if row is None else (read_once(row), row.beneath)
        return self._files[app_id]

    def _owners(self, file: tuple[Owners, str], chain: list[ChainLink]) -> Iterator[tuple[str, str]]:
        """Yield the owners of the innermost own file that has any."""
        owners, beneath = file
        lines = ((frame, owners.line_for(frame.file, beneath)) for frame in _own_frames(chain))
        frame, line = next(((frame, line) for frame, line in lines if line is not None), (None, None))
        if frame is None or line is None:
            return
        for owner in line.owners:
            name = self.meant_by(owner)
            if name is not None:
                yield name, f"{owner} owns {frame.file} by line {line.number} of CODEOWNERS, “{line.pattern}”"

    def meant_by(self, owner: str) -> str | None:
        """Return the person for an owner's name, None where none is known."""
        if self._people is None:
            self._people = store.people(self._records.reader)
            self._names = {row.owner: row.person for row in store.names(self._records.reader)}
        return who_is_meant(owner, self._people, self._names)


def active_rules(records: Records) -> list[HandingRule]:
    """Return the active rules, in their order."""
    rules: list[HandingRule] = []
    for row in HANDING.active(records.reader):
        try:
            rules.append(parse_handing_rule(row.rule, row.id))
        except HandingRuleTrouble:
            _log.exception("the hand-over rule %d is passed over", row.id)
    return rules


_read: dict[int, tuple[int, str, Owners]] = {}


def read_once(row: OwnerFile) -> Owners:
    """Return an app's parsed CODEOWNERS, cached for each of its versions."""
    owners_read = _read.get(row.app_id)
    if owners_read is None or owners_read[:2] != (row.changed_ms, row.body):
        owners_read = (row.changed_ms, row.body, read_owners(row.body))
        _read[row.app_id] = owners_read
    return owners_read[2]


def _own_frames(chain: list[ChainLink]) -> list[Frame]:
    fault = locate(chain)
    first = [fault.site] if fault.site is not None and fault.site.own else []
    others = [frame for link in reversed(chain) for frame in reversed(link.frames) if frame.own]
    unique = {frame.file: frame for frame in reversed([*first, *others]) if frame.file}
    return list(reversed(unique.values()))[:MOST_FRAMES]


def _of_frame(site: Frame | None) -> dict[str, Any]:
    """Return the facts for rules from the frame that counts, rather than the innermost one, which may be a library's."""
    return {} if site is None else {"function": site.function, "module": site.module, "file": site.file}
