"""Models of answers about grouping: merges, splits, rules and regroupings, and their previews."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from obitus.service.api.answers import StateName, Time


class GroupExample(BaseModel):
    """Failures that would be one issue, and its title."""

    title: str
    failures: int
    message: str


class JoiningAnswer(BaseModel):
    """Issues that would become one."""

    issues: list[int]
    into: int | None = Field(description="The issue they would be; absent for a new one.")
    failures: int
    example: GroupExample


class PartingAnswer(BaseModel):
    """An issue that would become several."""

    issue: int
    into: list[GroupExample]


class RegroupPreview(BaseModel):
    """The preview of a rule or a regrouping on the latest failures."""

    looked_at: int = Field(description="Failures looked at, the latest ones.")
    matching: int = Field(description="Failures that the rule's condition holds for.")
    moving: int = Field(description="Failures that would change their issue.")
    joining: list[JoiningAnswer]
    parting: list[PartingAnswer]


class MergePreview(BaseModel):
    """The preview of merging two issues."""

    issue: int
    into: int
    failures: int = Field(description="Failures that would move.")
    failures_after: int = Field(description="Failures that the issue would have.")
    reason: str = Field(description="What the two have in common, as far as it is seen.")
    first_seen: Time
    last_seen: Time
    state: StateName = Field(description="The state it would have: that of the issue that is merged into.")


class SplitPart(BaseModel):
    """One issue that a split would make."""

    value: str = Field(description="The values that its failures have.")
    failures: int
    message: str
    fingerprints: list[str]


class SplitPreview(BaseModel):
    """The preview of splitting an issue."""

    issue: int
    looked_at: int
    parts: list[SplitPart] = Field(description="The largest stays; each other becomes an issue.")


class GroupingRuleAnswer(BaseModel):
    """A grouping rule of the team."""

    id: int
    rule: str
    person: str
    created: Time


class GroupingRulesAnswer(BaseModel):
    """The active grouping rules."""

    rules: list[GroupingRuleAnswer]


class RegroupingAnswer(BaseModel):
    """A merge, a split, or a regrouping."""

    id: int
    kind: Literal["merge", "split", "regroup"]
    said: str
    person: str
    created: Time
    state: Literal["running", "done", "undoing", "undone", "failed"]
    moved: int
    total: int
    ended: Time | None = None


class RegroupingsAnswer(BaseModel):
    """The latest regroupings, newest first."""

    regroupings: list[RegroupingAnswer]
