"""Models of answers about apps, their keys and redaction."""

from __future__ import annotations

from pydantic import BaseModel, Field

from obitus.service.api.answers import Time


class KeyDayAnswer(BaseModel):
    """The use of a key since midnight, UTC, and its bound for a day; beyond it reports are refused until the day ends."""

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
        default=None, description="What is wrong with its reports although they are stored: clock, filters."
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


class SetUpStep(BaseModel):
    """One step of setting up an app."""

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

    place: str = Field(description="Its path in the report.")
    before: str
    after: str


class RedactionPreview(BaseModel):
    """The preview of a redaction rule on the latest reports."""

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
    steps: list[SetUpStep] = Field(description="What to paste, and where.")
    then: str = Field(description="How to see that it works.")


class AppsAnswer(BaseModel):
    """All apps, and what the console's choosers offer."""

    apps: list[AppAnswer]
    kinds: list[KindAnswer]
    environments: list[str]
    releases: list[str] = Field(description="Releases of all apps, newest first.")
