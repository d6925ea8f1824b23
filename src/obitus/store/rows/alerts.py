"""The rows of alerts: rules, channels, firings, messages, silences, and counts for rules."""

from __future__ import annotations

from typing import Literal, NamedTuple

from obitus.core.priority import Level
from obitus.core.quiet.finding import Kind

ChannelKind = Literal["mail", "webhook", "command", "file", "console"]
MessageKind = Literal["firing", "over", "escalation", "digest", "test"]
LinkAct = Literal["accept", "park", "silence"]


class Channel(NamedTuple):
    """Where messages are delivered."""

    id: int
    name: str
    kind: ChannelKind
    settings: str
    secrets: bytes | None
    template: str
    person: str | None
    """Its person."""
    person_id: int | None
    digest_at: str
    digest_zone: str
    digest_next_ms: int | None
    made_by: str
    changed_ms: int
    quiet_hours: str | None
    """Of its person."""
    quiet_zone: str | None


class ChannelState(NamedTuple):
    """The state of deliveries to a channel."""

    channel_id: int
    waiting: int
    oldest_ms: int | None
    """When the oldest waiting one was made."""
    next_ms: int | None
    tries: int
    answer: str
    """The error of the next one's last try."""
    delivered_ms: int | None
    given_up: int


class AlertRule(NamedTuple):
    """An alert rule."""

    id: int
    name: str
    condition: str
    priority: Level
    at_most_an_hour: int
    escalate_after_ms: int | None
    source: str
    counted_from_ms: int | None
    person: str
    created_ms: int
    changed_ms: int


class RuleChannel(NamedTuple):
    """A channel of a rule's messages."""

    rule_id: int
    channel_id: int
    channel: str
    escalates: int


class FiringRow(NamedTuple):
    """A firing of a rule."""

    id: int
    rule_id: int
    rule: str
    condition: str
    priority: Level
    group_key: str
    event_id: int | None
    issue_id: int | None
    app_id: int | None
    environment: str
    begun_ms: int
    noted_ms: int
    over_ms: int | None
    value: float | None
    bound: float | None
    worst: float | None
    reason: str
    over_time: str
    records: str
    held_back: str
    accepted_ms: int | None
    accepted_by: str
    escalates_ms: int | None
    escalated_ms: int | None


class MessageRow(NamedTuple):
    """A message to one channel."""

    id: int
    uid: str
    channel_id: int
    channel: str
    channel_kind: ChannelKind
    kind: MessageKind
    subject: str
    made_ms: int
    due_ms: int
    due_why: str
    held_back: int
    text: str
    tries: int
    next_ms: int | None
    answer: str
    delivered_ms: int | None
    given_up_ms: int | None


class MessageOfFiring(NamedTuple):
    """The messages of firings."""

    firing_id: int
    message_id: int


class WaitingChannel(NamedTuple):
    """A channel with waiting messages."""

    channel_id: int


class LinkRow(NamedTuple):
    """The action of a link."""

    message_id: int
    act: LinkAct
    firing_id: int
    expires_ms: int
    used_ms: int | None
    channel: str


class SilenceRow(NamedTuple):
    """A time in which rules send nothing."""

    id: int
    from_ms: int
    until_ms: int
    rule: str | None
    app: str | None
    environment: str | None
    issue_id: int | None
    reason: str
    said_by: str


class AmountRow(NamedTuple):
    """The counts of a rule in a slot."""

    slot: int
    group_key: str
    part: str
    n: int
    figure: float


class RunSlotRow(NamedTuple):
    """Runs in a slot, by the values of a rule's groups."""

    slot: int
    one: str | int | None
    two: str | int | None
    outcome: str
    below_ms: float
    runs: int


class LastCame(NamedTuple):
    """When the runs or reports of a group came last."""

    one: str | int | None
    two: str | int | None
    last_ms: int


class Happened(NamedTuple):
    """An event of an issue."""

    issue_id: int
    time_ms: int


class RateRegressionThen(NamedTuple):
    """A rate regression."""

    id: int
    issue_id: int
    entry_point: str
    app: str
    app_id: int
    release: str
    environment: str
    reason: str
    found_ms: int


class QuietThen(NamedTuple):
    """A quiet failure that was found."""

    id: int
    app: str
    app_id: int
    environment: str
    kind: Kind
    subject: str
    reason: str
    found_ms: int


class OnlyCounted(NamedTuple):
    """Failures of one person that another failure represents."""

    seq: int
    user_id: str
    n: int
