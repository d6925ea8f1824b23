"""What the API answers with: the models that its OpenAPI description, and the console's types, are made from."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

from obitus.core.priority import Level
from obitus.service.intake.formats import KeptFailure
from obitus.store.rows.people import Role, Scope

Time = str
"""RFC 3339, UTC, to the millisecond."""

StateName = Literal["untriaged", "accepted", "settled", "regressed", "parked"]


class KeyDayAnswer(BaseModel):
    """What came with a key since midnight, UTC, and how much may come in a day; beyond it reports are refused until the day ends."""

    reports: int
    bytes: int = Field(description="Of bodies as they were sent: compressed, where they were.")
    most_reports: int
    most_bytes: int
    part: float = Field(description="Which part of the nearer bound has come: 1 and more where it is reached.")
    full: Time | None = Field(
        default=None,
        description="Said from a fifth of the bound on: about when it is reached, as fast as it came today; null where the day ends before.",
    )


class KeyAnswer(BaseModel):
    """A reporting key, without the key."""

    id: int
    environment: str
    hint: str = Field(description="Its last four characters, to tell keys apart.")
    created: Time
    revoked: Time | None = None
    may_add_apps: bool = Field(default=False, description="Whether it may report for apps that its senders name.")
    may_deploy: bool = Field(default=False, description="Whether a pipeline may report deploys with it.")
    origins: list[str] = Field(
        default=[], description="The origins whose pages may report with it; empty for a key that is not for pages."
    )
    today: KeyDayAnswer


class RefusalAnswer(BaseModel):
    """The latest report of an app that was refused."""

    time: Time
    slug: str
    reason: str


class AppAnswer(BaseModel):
    """An app."""

    name: str
    kind: str
    created: Time
    first_report: Time | None = Field(default=None, description="When its first report arrived.")
    last_report: Time | None = Field(default=None, description="When its latest report arrived.")
    last_remark: RefusalAnswer | None = Field(
        default=None, description="What is not right with its reports although they are stored: clock, filters."
    )
    last_unknown_key: Time | None = Field(
        default=None, description="When a report last came with a key that no app has: perhaps this one's, mistyped."
    )
    last_refusal: RefusalAnswer | None = Field(
        default=None, description="The latest refusal since the service started, to tell slow from misconfigured."
    )
    client: str | None = Field(
        default=None,
        description="What sent its latest reports, such as python-0.1.0; null where nothing came since the service began.",
    )
    releases: list[str] = Field(description="Its releases, newest first.")
    keys: list[KeyAnswer]


class SpanAnswer(BaseModel):
    """A span of time."""

    start: Time
    end: Time


class StepAnswer(BaseModel):
    """One thing to do when an app is set up."""

    title: str
    lines: str


class KindAnswer(BaseModel):
    """A kind of app."""

    name: str
    title: str


class RedactionRuleAnswer(BaseModel):
    """A redaction rule of the team."""

    id: int
    rule: str
    person: str
    created: Time


class RedactionRulesAnswer(BaseModel):
    """The active redaction rules."""

    rules: list[RedactionRuleAnswer]


class RedactionExample(BaseModel):
    """One value that a rule would hide."""

    place: str = Field(description="Where it stands in the report.")
    before: str
    after: str


class RedactionPreview(BaseModel):
    """What a redaction rule would have hidden in the latest reports."""

    rule: str
    reports_looked_at: int
    reports_touched: int
    values_hidden: int
    examples: list[RedactionExample]


class NewKeyAnswer(BaseModel):
    """A reporting key, shown this once."""

    app: str
    id: int
    environment: str
    key: str = Field(description="The key. It is not kept and cannot be shown again.")
    url: str = Field(description="What OBITUS_URL has to be.")
    kind: str
    settings: str = Field(description="The lines that set the app's environment in a shell.")
    install: str = Field(description="What to install where the app lives.")
    steps: list[StepAnswer] = Field(description="What to paste, and where.")
    then: str = Field(description="How to see that it works.")


class AppsAnswer(BaseModel):
    """All apps, and what the console's choosers offer."""

    apps: list[AppAnswer]
    kinds: list[KindAnswer]
    environments: list[str]
    releases: list[str] = Field(description="Releases of all apps, newest first.")


class PartAnswer(BaseModel):
    """One thing the fingerprint looked at."""

    kind: str
    value: str
    counted: bool
    reason: str


class FingerprintAnswer(BaseModel):
    """A fingerprint and why it is what it is."""

    fingerprint: str
    joined: str = Field(default="", description="Why it belongs to the issue, when it did not begin it.")
    parts: list[PartAnswer]


class PriorityAnswer(BaseModel):
    """How much an issue matters now."""

    level: Level
    reason: str = Field(description="Why, in one line, the heaviest first.")
    said: bool = Field(description="Whether somebody said so.")


class ParkedAnswer(BaseModel):
    """Until what an issue is parked."""

    said: str = Field(description="In words; '' where only a person brings it back.")
    so_far: str = Field(description="How far what is counted has got, in words.")


class IssueRow(BaseModel):
    """An issue in a list."""

    number: int
    app: str
    title: str = Field(description="Type and place in one line.")
    type: str
    cause: str = Field(description="Type of the root cause, empty when it is the same.")
    place: str = Field(description="Where the fault is: module and function.")
    message: str = Field(description="Message of the latest failure.")
    entry_point: str
    state: StateName
    state_since: Time
    settled_in: str | None = Field(default=None, description="The release with the fix, where one was named or came.")
    first_seen: Time
    last_seen: Time
    began_in: str
    latest_in: str
    failures: int = Field(description="Failures inside the window and filter.")
    failures_in_all: int
    from_older_releases: int = Field(description="Failures from releases older than the one it was settled in.")
    merged_into: int | None = Field(default=None, description="The issue that it was merged into.")
    holder: str | None = Field(description="Who has it: takes care of it.")
    priority: PriorityAnswer
    waits_for: str = Field(description="Whom or what it waits for, in words.")
    parked: ParkedAnswer | None = Field(description="Until what it is parked, where it is.")
    reopened: str = Field(description="Why it came back, where it was parked and nobody has decided on it since.")
    over_time: list[int] = Field(
        description="Failures per slice of the window, oldest first: at most 31, of so many whole hours each, beyond 14 days of whole days."
    )


class WindowAnswer(BaseModel):
    """The window that was looked at."""

    start: Time
    end: Time


class IssuesAnswer(BaseModel):
    """A page of issues."""

    window: WindowAnswer
    issues: list[IssueRow]
    issues_in_all: int = Field(description="Issues that match, over all pages.")
    failures_in_all: int = Field(description="Failures that match, over all pages.")
    next: str | None = Field(default=None, description="Give it as `cursor` to get the next page.")


class QuietAnswer(BaseModel):
    """Something that went wrong with no exception: it is new, or more than usual."""

    id: int
    app: str
    environment: str
    kind: Literal["refused", "warning", "silent"] = Field(
        description="`refused`: an entry point refuses more runs than usual; `warning`: records that warn are new or more than usual; `silent`: a job did not run."
    )
    subject: str = Field(description="The entry point or job, or what the records say, values left out.")
    reason: str = Field(description="Why it is reported, in words, with its numbers.")
    found: Time
    held: Time = Field(description="When it was last found to hold.")
    issue: int | None = Field(description="The issue that collects it, where there is one.")
    left_by: str | None = Field(description="Who said that it is nothing to act on.")
    records: Literal["run", "log"] = Field(description="What the question below is asked of.")
    question: str = Field(description="A question that finds its records.")


class DeskAnswer(BaseModel):
    """What needs a decision now."""

    window: WindowAnswer
    issues: int
    failures: int
    mine: list[IssueRow] = Field(
        description="Open issues that the asker has, whatever the window; failures are those of all time."
    )
    regressed: list[IssueRow] = Field(
        description="Issues that were settled and have failed again, and that nobody has."
    )
    reopened: list[IssueRow] = Field(
        description="Issues that were parked and have come back, whatever the window, and that nobody has; failures are those of all time."
    )
    new: list[IssueRow] = Field(
        description="First seen inside the window; nobody has decided on them, and nobody has them."
    )
    quiet: list[QuietAnswer] = Field(description="Quiet failures that stand, and that nobody has decided on.")
    most_failures: list[IssueRow] = Field(
        description="Most failures inside the window, whatever their state but settled; not those above."
    )


class FailureRow(BaseModel):
    """A failure in a list."""

    id: str
    issue: int
    app: str
    environment: str
    release: str
    time: Time
    received: Time
    severity: str
    handled: bool
    message: str
    entry_point: str
    user: str | None = None
    trace_id: str | None = None
    verdict: str = Field(description="What it meant for the issue's state, when it meant something.")
    stands_for: int = Field(
        description="Itself, and those like it that were only counted, since the issue failed so often at once."
    )


class FailuresAnswer(BaseModel):
    """A page of failures, latest first."""

    failures: list[FailureRow]
    next: str | None = None


class AsKept:
    """A part of a report, as it was checked when it came; handed on as it is, and described by the model that checked it.

    What was kept by an earlier version may have its names.
    """

    def __init__(self, model: type[BaseModel]) -> None:
        self._model = model

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        """Describe it by the model that checked it."""
        return handler(self._model.__pydantic_core_schema__)


class FailureAnswer(FailureRow):
    """One failure, whole."""

    earlier: str | None = Field(default=None, description="Id of the failure of the same issue just before.")
    later: str | None = Field(default=None, description="Id of the failure of the same issue just after.")
    report: Annotated[dict[str, Any], AsKept(KeptFailure)] | None = Field(
        description="The report as it was kept. Absent when it is no longer kept."
    )
    gone: str | None = Field(default=None, description="Why the report is no longer kept, in words.")


class ReleaseCount(BaseModel):
    """Failures of an issue in one release."""

    release: str
    first_report: Time | None = Field(description="When its first report arrived; absent when it was only announced.")
    failures: int
    environments: dict[str, int]


class HistoryEntry(BaseModel):
    """A change of state."""

    time: Time
    person: str | None = Field(default=None, description="Who decided; absent when a failure did it.")
    from_state: StateName | None = None
    to_state: StateName
    reason: str
    failure: str | None = Field(default=None, description="Id of the failure that caused it.")


class IssueAnswer(IssueRow):
    """One issue, whole. `failures` and `over_time` cover the window; everything else covers all of its life."""

    what_failed: str = Field(description="One sentence: type, where, how often, for whom, since when.")
    users: int = Field(description="Users whom its failures met, in all of its life.")
    why: list[FingerprintAnswer] = Field(description="Why these failures are one issue.")
    collects: str | None = Field(
        default=None, description="What it collects, in words, where it was made of a quiet failure."
    )
    releases: list[ReleaseCount] = Field(
        description="Releases of the app in order, with this issue's failures: all that have some, and the newest. Rates are at `/since`."
    )
    history: list[HistoryEntry]
    latest: FailureAnswer
    first: FailureAnswer


class PersonAnswer(BaseModel):
    """Who is signed in."""

    name: str
    role: Role
    may: Scope = Field(
        description="What this session or token is good for: read, decide (and read), or administer (all)."
    )
    has_password: bool
    has_codes: bool = Field(description="Whether a one-time code is asked for beside the password.")
    codes_due: bool = Field(description="Whether one-time codes have to be set up before anything else.")
    codes_for_all: bool = Field(description="Whether everybody who has a password is asked for one-time codes.")
    sees_all: bool = Field(description="Whether all apps are seen, those to come too.")


class TokenAnswer(BaseModel):
    """A personal token, without the token."""

    id: str
    label: str
    created: Time
    expires: Time | None = Field(default=None, description="When it ends.")
    used: Time | None = Field(default=None, description="When it was last used, to within minutes.")
    scope: Scope = Field(description="What it may do: read, decide (and read), or administer (all).")
    apps: list[str] | None = Field(
        default=None, description="The apps that it is for; absent for all that its person sees."
    )


class SessionAnswer(BaseModel):
    """A browser that is signed in."""

    id: str
    label: str = Field(description="Which browser, as far as it says, and from where it was signed in.")
    created: Time
    expires: Time
    used: Time | None = Field(default=None, description="When it was last used, to within minutes.")
    is_this: bool = Field(description="Whether it is the one that asks.")


class SessionsAnswer(BaseModel):
    """The browsers that are signed in."""

    sessions: list[SessionAnswer]


class ActAnswer(BaseModel):
    """Something that was done, or tried and refused."""

    id: int
    time: Time
    person: str | None = Field(default=None, description="Who; absent where nobody was signed in.")
    act: str
    subject: str


class ActsAnswer(BaseModel):
    """What was done, newest first."""

    acts: list[ActAnswer]
    kinds: list[str] = Field(description="Which kinds of acts are on record.")
    more: int | None = Field(default=None, description="Give this as `before` to read on.")


class TokensAnswer(BaseModel):
    """The personal tokens of who is signed in."""

    tokens: list[TokenAnswer]


class NewTokenAnswer(BaseModel):
    """A personal token, shown this once."""

    label: str
    token: str = Field(description="The token. It is not kept and cannot be shown again.")


class Done(BaseModel):
    """It is done."""

    done: bool = True


class HealthAnswer(BaseModel):
    """Whether the service lives, whether it is ready to take reports, and why not."""

    live: bool
    ready: bool
    reasons: list[str] = Field(description="Why it is not ready; empty when it is.")
    version: str
    time: Time


class LikeAnswer(BaseModel):
    """An issue that may be the same fault."""

    number: int
    title: str
    state: StateName
    failures_in_all: int
    reason: str = Field(description="What is alike, and what differs, in words.")


class LikesAnswer(BaseModel):
    """The issues that may be the same fault as one, and those that somebody said are not."""

    perhaps: list[LikeAnswer]
    never: list[int] = Field(description="Issues that are kept apart from it, because somebody said so.")


class GroupExample(BaseModel):
    """Failures that would be one issue, and what they are called."""

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
    """What a rule, or regrouping, would do to the latest failures."""

    looked_at: int = Field(description="Failures looked at, the latest ones.")
    matching: int = Field(description="Failures that the rule's condition holds for.")
    moving: int = Field(description="Failures that would change their issue.")
    joining: list[JoiningAnswer]
    parting: list[PartingAnswer]


class MergePreview(BaseModel):
    """What merging two issues would make."""

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
    """What splitting an issue would make."""

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
