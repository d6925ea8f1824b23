"""``/api/channels``: channels, their deliveries, and a test of each. Secrets can be set, and are never returned."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Annotated, Any, Final

from fastapi import Depends, Path, Query
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.alerting.letters import FiringSummary, Letter, title_of
from obitus.core.alerting.pacing import PacingTrouble, next_digest_ms, read_quiet_hours, read_zone
from obitus.core.alerting.wanted import NAME
from obitus.core.clock import DAY_MS, to_text
from obitus.service.alerting.active_rules import TheRuleBook, uids
from obitus.service.alerting.channels.base import DeliveryTrouble
from obitus.service.alerting.delivering import TheChannels, checked, test_letter
from obitus.service.alerting.rendering import MOST_TEMPLATE
from obitus.service.api import answers
from obitus.service.api.outside import settings_refused
from obitus.service.dependencies import TheClock, TheRecords, TheSettings
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store.alerts import channels as store
from obitus.store.alerts import messages
from obitus.store.alerts.channels import WantedChannel
from obitus.store.rows.alerts import Channel, ChannelKind, ChannelState, MessageRow
from obitus.store.sealed import seal_again

router = Router(
    prefix="/api",
    tags=["alerts"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "store-broken"),
)

STATE_MS: Final = 7 * DAY_MS
MOST_MESSAGES: Final = 100
ChannelName = Annotated[str, Path(max_length=60, description="The channel's name.")]


class ChannelOrder(BaseModel):
    """A channel."""

    model_config = ConfigDict(extra="forbid", strict=True)

    kind: ChannelKind
    settings: dict[str, str | int | list[str]] = Field(
        default_factory=dict,
        max_length=20,
        description="Mail: `host`, `port`, `tls` (starttls, tls, none), `from`, `to`, `user`. Webhook: `url`, `content_type`. Command: "
        "`command`. File: `path`. Console: none.",
    )
    secrets: dict[str, str | dict[str, str]] | None = Field(
        default=None,
        max_length=5,
        description="Mail: `password`. Webhook: `secret` to sign with, `headers`. Kept encrypted and never shown; null leaves the present ones.",
    )
    template: str = Field(
        default="", max_length=MOST_TEMPLATE, description="Of a webhook's body, in Jinja2; '' for a CloudEvent."
    )
    person: str | None = Field(
        default=None,
        max_length=60,
        description="The person whose channel it is; their quiet hours apply. Null for the team's.",
    )
    digest_at: str = Field(
        default="", max_length=20, description="`08:00` for a digest each day, `mon 08:00` each week, '' for none."
    )
    digest_zone: str = Field(default="UTC", max_length=60, description="The IANA time zone of `digest_at`.")


class NewChannel(ChannelOrder):
    """A channel to add or change."""

    name: str = Field(pattern=f"^{NAME.pattern}$", description="Small letters, digits and dashes.")


class DeliveriesAnswer(BaseModel):
    """The state of deliveries to a channel."""

    waiting: int
    waits_since: answers.Time | None
    tries: int = Field(description="Of the message that is next.")
    next_try: answers.Time | None
    trouble: str = Field(description="What the last try of it came to, '' where nothing is wrong.")
    delivered: answers.Time | None = Field(description="The latest delivery of the last seven days.")
    given_up: int = Field(description="Messages of the last seven days that did not arrive.")


class ChannelAnswer(BaseModel):
    """A channel."""

    name: str
    kind: ChannelKind
    settings: dict[str, Any]
    has_secrets: bool
    template: str
    person: str | None
    quiet_hours: str = Field(description="Of the person whose it is.")
    digest_at: str
    digest_zone: str
    next_digest: answers.Time | None
    made_by: str
    changed: answers.Time
    allowed: str = Field(description="Why the owner of the machine has to allow it first, '' where it is allowed.")
    deliveries: DeliveriesAnswer


class ChannelsAnswer(BaseModel):
    """All channels, by name."""

    channels: list[ChannelAnswer]


class KeyChanged(BaseModel):
    """The result of changing the key of secrets."""

    changed: int = Field(description="Channels and targets whose secrets are encrypted with the new key.")
    unreadable: list[str] = Field(description="Channels and targets whose secrets nobody can read: give them again.")


class ChannelTestAnswer(BaseModel):
    """The result of a test."""

    delivered: bool
    answer: str = Field(description="What the channel answered, or why it did not take the message.")
    took_ms: int


class MessageAnswer(BaseModel):
    """A message, and its delivery."""

    number: int
    id: str = Field(description="Goes with the message: the same one twice has the same.")
    channel: str
    kind: str
    made: answers.Time
    due: answers.Time
    waits_why: str = Field(description="Why it was not sent at once, '' where it was.")
    tries: int
    next_try: answers.Time | None
    answer: str
    delivered: answers.Time | None
    given_up: answers.Time | None
    said: str = Field(description="All of that in words.")


class MessagesAnswer(BaseModel):
    """The latest messages of a channel."""

    messages: list[MessageAnswer]


class BodyTemplateOrder(BaseModel):
    """A template to try."""

    model_config = ConfigDict(extra="forbid", strict=True)

    template: str = Field(max_length=MOST_TEMPLATE)
    content_type: str = Field(default="application/json", max_length=40)


class MadeBodyAnswer(BaseModel):
    """The output of a template for an example."""

    body: str
    trouble: str = Field(description="Why it makes nothing, '' where it does.")


class QuietHoursOrder(BaseModel):
    """Quiet hours of a person, which high priority ignores."""

    model_config = ConfigDict(extra="forbid", strict=True)

    hours: str = Field(max_length=60, description="`22:00-07:00`, or with days: `sat,sun 00:00-24:00`. '' for never.")
    zone: str = Field(default="UTC", max_length=60, description="An IANA time zone: Europe/Oslo.")


@router.get("/channels", summary="Channels")
def channels(records: TheRecords, clock: TheClock, some: TheChannels) -> ChannelsAnswer:
    """Return the channels, and the state of their deliveries."""
    states = store.states(records.reader, clock.now_ms() - STATE_MS)
    return ChannelsAnswer(channels=[_channel(row, states.get(row.id), some) for row in store.channels(records.reader)])


@router.post(
    "/channels",
    status_code=201,
    summary="Add a channel",
    responses=described("already-there", "too-many", "not-found"),
)
def add(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    some: TheChannels,
    book: TheRuleBook,
    person: SignedIn,
    order: NewChannel,
) -> ChannelAnswer:
    """Add a channel; send a test to see whether it works."""
    wanted = _wanted(order.name, order, some, clock.now_ms())
    acts.do(
        person.id,
        "added channel",
        order.name,
        lambda c: store.add(c, _sealed(wanted, order, some), person.id, clock.now_ms()),
    )
    book.changed()
    return _channel(store.named(records.reader, order.name), None, some)


@router.post("/channels/key", summary="Change the key of all secrets", status_code=201)
def change_key(acts: TheActs, some: TheChannels, person: SignedIn) -> KeyChanged:
    """Encrypt the secrets of all channels and targets with a new key. An older backup needs the older key."""
    resealed = some.seal.change_key(
        lambda again: acts.do(person.id, "changed the key of secrets", "", lambda c: seal_again(c, again))
    )
    return KeyChanged(changed=resealed.changed, unreadable=resealed.unreadable)


@router.put("/channels/{name}", summary="Change a channel", responses=described("not-found"))
def change(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    some: TheChannels,
    book: TheRuleBook,
    person: SignedIn,
    name: ChannelName,
    order: ChannelOrder,
) -> ChannelAnswer:
    """Change a channel. Secrets that are not given stay. Waiting messages are tried at once."""
    wanted = _wanted(name, order, some, clock.now_ms())
    acts.do(
        person.id,
        "changed channel",
        name,
        lambda c: store.change(c, _sealed(wanted, order, some), person.id, clock.now_ms()),
    )
    book.changed()
    return _channel(store.named(records.reader, name), None, some)


@router.delete("/channels/{name}", summary="Remove a channel", responses=described("not-found"))
def remove(clock: TheClock, acts: TheActs, book: TheRuleBook, person: SignedIn, name: ChannelName) -> answers.Done:
    """Remove a channel with its secrets. Its waiting messages are not sent; rules with this channel notify their other channels."""
    acts.do(person.id, "removed channel", name, lambda c: store.remove(c, name, clock.now_ms()))
    book.changed()
    return answers.Done()


@router.post("/channels/{name}/test", summary="Send a test", responses=described("not-found"))
def test(
    records: TheRecords,
    clock: TheClock,
    settings: TheSettings,
    acts: TheActs,
    some: TheChannels,
    person: SignedIn,
    name: ChannelName,
) -> ChannelTestAnswer:
    """Send a test message, once, and return the answer."""
    channel, began_ms = store.named(records.reader, name), clock.now_ms()
    try:
        answer, arrived = some.send(channel, test_letter(name, settings.url, next(uids()), began_ms)), True
    except DeliveryTrouble as trouble:
        answer, arrived = str(trouble), False
    acts.do(person.id, "tested channel", f"{name}: {'delivered' if arrived else 'not delivered'}", lambda _: None)
    return ChannelTestAnswer(delivered=arrived, answer=answer, took_ms=max(0, clock.now_ms() - began_ms))


@router.get("/channels/{name}/messages", summary="Messages of a channel", responses=described("not-found"))
def of_channel(
    records: TheRecords, name: ChannelName, most: Annotated[int, Query(ge=1, le=MOST_MESSAGES)] = 50
) -> MessagesAnswer:
    """Return the latest messages of a channel, the newest first."""
    channel = store.named(records.reader, name)
    return MessagesAnswer(
        messages=[message_answer(row) for row in messages.of_channel(records.reader, channel.id, most)]
    )


@router.post(
    "/messages/{number}/send-again",
    summary="Send a message again that did not arrive",
    responses=described("not-found"),
)
def send_again(
    records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, number: Annotated[int, Path(ge=1, le=2**62)]
) -> answers.Done:
    """Send a message again that was given up."""
    messages.message(records.reader, number)
    acts.do(person.id, "sent again", f"message {number}", lambda c: messages.send_again(c, number, clock.now_ms()))
    return answers.Done()


@router.post("/channels/preview-template", summary="Try a template")
def preview_template(
    clock: TheClock, settings: TheSettings, some: TheChannels, order: BodyTemplateOrder
) -> MadeBodyAnswer:
    """Render a template with an example. Its variables: `title`, `kind`, `priority`, `parts`, `plain`, `home`, `uid`, `sent`."""
    if order.content_type not in ("application/json", "text/plain"):
        raise Problem("bad-field", "content_type: application/json or text/plain is expected.", field="content_type")
    try:
        body, _ = some.webhook.body(example(settings.url, clock.now_ms()), order.template, order.content_type)
    except DeliveryTrouble as trouble:
        return MadeBodyAnswer(body="", trouble=str(trouble))
    return MadeBodyAnswer(body=body.decode("utf-8", "replace"), trouble="")


@router.get("/me/quiet-hours", summary="My quiet hours")
def my_quiet_hours(records: TheRecords, person: SignedIn) -> QuietHoursOrder:
    """Return my quiet hours."""
    hours, zone = store.quiet_hours_of(records.reader, person.id)
    return QuietHoursOrder(hours=hours, zone=zone)


@router.put("/me/quiet-hours", summary="Set my quiet hours")
def set_quiet_hours(acts: TheActs, book: TheRuleBook, person: SignedIn, order: QuietHoursOrder) -> QuietHoursOrder:
    """Set my quiet hours: messages to my channels wait, except those of high priority."""
    try:
        if order.hours:
            read_quiet_hours(order.hours, order.zone)
        read_zone(order.zone)
    except PacingTrouble as trouble:
        raise Problem("bad-field", str(trouble), field="hours") from None
    acts.do(
        person.id,
        "set quiet hours",
        f"{order.hours or 'none'} {order.zone}",
        lambda c: store.set_quiet_hours(c, person.id, order.hours, order.zone),
    )
    book.changed()
    return order


def message_answer(row: MessageRow) -> MessageAnswer:
    """Return a message for the API."""
    return MessageAnswer(
        number=row.id,
        id=row.uid,
        channel=row.channel,
        kind=row.kind,
        made=to_text(row.made_ms),
        due=to_text(row.due_ms),
        waits_why=row.due_why,
        tries=row.tries,
        next_try=None if row.next_ms is None or row.delivered_ms is not None else to_text(row.next_ms),
        answer=row.answer,
        delivered=None if row.delivered_ms is None else to_text(row.delivered_ms),
        given_up=None if row.given_up_ms is None else to_text(row.given_up_ms),
        said=_said(row),
    )


def example(home: str, now_ms: int) -> Letter:
    """Return a message as an example for templates."""
    part = FiringSummary(
        title="KeyError in sailings/boardings.py, confirm",
        what="new issue",
        rules=["new-in-production (new issue where environment=production)"],
        reason="It failed for the first time in release 3.1.0.",
        begun=to_text(now_ms),
        over=None,
        app="sailings",
        environment="production",
        facts=[("Issue", "12, untriaged"), ("Entry point", "POST /sailings/{id}/boardings")],
        over_time=[0, 0, 1, 0, 3, 8],
        link=f"{home}/issues/12",
        records=f"{home}/issues/12",
    )
    title = title_of("firing", [part], 0)
    return Letter("example", "firing", "high", title, [part], home=home, thread="issue 12", sent=to_text(now_ms))


def _said(row: MessageRow) -> str:
    at = to_text(row.made_ms)[11:19]
    if row.delivered_ms is not None:
        nth = {1: "", 2: ", second try", 3: ", third try"}.get(row.tries, f", try {row.tries}")
        return f"made {at}, delivered {to_text(row.delivered_ms)[11:19]}{nth}"
    if row.given_up_ms is not None:
        return f"made {at}, given up after {row.tries} tries: {row.answer}"
    if row.tries:
        then = f", next try {to_text(row.next_ms)[11:19]}" if row.next_ms is not None else ""
        return f"made {at}, not delivered yet, try {row.tries}{then}: {row.answer or 'on its way'}"
    return f"made {at}, waits until {to_text(row.due_ms)[11:19]}{f': {row.due_why}' if row.due_why else ''}"


def _wanted(name: str, order: ChannelOrder, some: TheChannels, now_ms: int) -> WantedChannel:
    with settings_refused():
        settings = checked(order.kind, dict(order.settings), dict(order.secrets or {}), order.template)
        if order.kind == "webhook":
            some.asker.check(settings["url"])
    next_ms = None
    try:
        if order.digest_at:
            next_ms = next_digest_ms(order.digest_at, order.digest_zone, now_ms)
    except PacingTrouble as trouble:
        raise Problem("bad-field", str(trouble), field="digest_at") from None
    return WantedChannel(
        name,
        order.kind,
        json.dumps(settings),
        None,
        order.template,
        order.person,
        order.digest_at,
        order.digest_zone,
        next_ms,
    )


def _sealed(wanted: WantedChannel, order: ChannelOrder, some: TheChannels) -> WantedChannel:
    """Return a channel with its secrets encrypted. Call it on the writer."""
    if order.secrets is None:
        return wanted
    return replace(wanted, secrets=some.seal.seal(f"channel {wanted.name}", order.secrets))


def _channel(row: Channel, state: ChannelState | None, some: TheChannels) -> ChannelAnswer:
    return ChannelAnswer(
        name=row.name,
        kind=row.kind,
        settings=json.loads(row.settings),
        has_secrets=row.secrets is not None,
        template=row.template,
        person=row.person,
        quiet_hours=f"{row.quiet_hours} {row.quiet_zone}" if row.quiet_hours else "",
        digest_at=row.digest_at,
        digest_zone=row.digest_zone,
        next_digest=None if row.digest_next_ms is None else to_text(row.digest_next_ms),
        made_by=row.made_by,
        changed=to_text(row.changed_ms),
        allowed=some.why_not(row),
        deliveries=_deliveries(state),
    )


def _deliveries(state: ChannelState | None) -> DeliveriesAnswer:
    if state is None:
        return DeliveriesAnswer(
            waiting=0, waits_since=None, tries=0, next_try=None, trouble="", delivered=None, given_up=0
        )
    return DeliveriesAnswer(
        waiting=state.waiting,
        waits_since=None if state.oldest_ms is None else to_text(state.oldest_ms),
        tries=state.tries,
        next_try=None if state.next_ms is None else to_text(state.next_ms),
        trouble=state.answer,
        delivered=None if state.delivered_ms is None else to_text(state.delivered_ms),
        given_up=state.given_up,
    )
