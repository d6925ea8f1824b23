"""What happens over the two weeks: which app runs in which release when, and what people decide on what they see.

Everything follows from the seed and from the moment the story ends, so that it is the same every time. Hours count from its start.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.releases import compare

DAYS: Final = 14
END: Final = DAYS * 24
SEED: Final = 1871
PIERS: Final = ("merrow", "eastholm", "gannet-stack", "corrie-point")
LAST_TRY_MS: Final = 22 * HOUR_MS
OUT_OF_PAPER: Final = "corrie-point"
NAMES: Final = ("Ida Moss", "Per Lund", "Aoife Byrne", "Zoë Hart", "Bram Vos", "Maëlle Roy", "Tom Reed", "Ana Cruz")
APPS: Final = (("sailings", "fastapi"), ("gatekeeper", "script"), ("pierboard", "script"))

Span = tuple[float, float]

# When each release was the one in production: 3.0.0 was rolled back after a day, 3.1.0 first ran for an hour beside 3.0.1.
LIVE: Final[dict[str, tuple[Span, ...]]] = {
    "2.8.0": ((0, 96),),
    "2.9.0": ((96, 144),),
    "2.9.1": ((144, 192), (216, 228)),
    "3.0.0": ((192, 216),),
    "3.0.1": ((228, 294),),
    "3.1.0": ((294, END),),
}
CANARY: Final[Span] = (285, 286)


@dataclass(frozen=True)
class Act:
    """One request, job or page at one time: what is done, with what, and the trace that it is a part of."""

    time_ms: int
    what: str
    with_: dict[str, Any]
    trace: str | None = None


@dataclass(frozen=True)
class Player:
    """One running instance of an app: a release on a host for some spans of hours."""

    app: str
    release: str
    host: str
    spans: tuple[Span, ...]
    acts_a_day: int
    environment: str = "production"
    journeys: bool = False
    """Whether passengers' journeys through all three apps meet this instance."""
    dies_at_start: bool = False
    clock_ms: int = 0
    """How far its host's clock is ahead."""

    @property
    def first_day(self) -> int:
        """The day on which it starts."""
        return int(self.spans[0][0] // 24)

    @property
    def end_day(self) -> int:
        """The day after the last on which it runs."""
        return int(-(-self.spans[-1][1] // 24))

    def runs_at(self, hour: float) -> bool:
        """Whether it runs at an hour of the story."""
        return any(first <= hour < end for first, end in self.spans)


GATE_OFF_MS: Final = -40_000
"""Since 3.1.0 was rolled out, the clock of the gate is forty seconds behind."""
_A_DAY: Final = {"sailings": 560, "gatekeeper": 160, "pierboard": 40}
PLAYERS: Final = (
    *(Player(app, release, host, spans, _A_DAY[app], journeys=True, clock_ms=GATE_OFF_MS if (app, release) == ("gatekeeper", "3.1.0") else 0) for release, spans in LIVE.items() for app, host in (("sailings", "pier-1"), ("gatekeeper", "gate-1"), ("pierboard", "kiosk-1"))),
    # The Friday evening, when 3.1.0 was tried beside 3.0.1 for an hour.
    Player("sailings", "3.0.1", "pier-2", (CANARY,), 7200),
    Player("sailings", "3.1.0", "pier-3", (CANARY,), 3600),
    # One gate was forgotten when 2.9.0 was rolled out: what it meets is known and settled.
    Player("gatekeeper", "2.8.0", "gate-7", ((96, END),), 12),
    Player("gatekeeper", "2.9.0", "gate-test", ((72, 96),), 0, "staging", dies_at_start=True),
    Player("gatekeeper", "3.1.0", "gate-test", ((264, 288),), 0, "staging", dies_at_start=True),
)  # fmt: skip


@dataclass(frozen=True)
class Deploy:
    """That a release went to production, reported by the pipeline; the first of all nobody reported."""

    hour: float
    release: str
    canary: bool = False


DEPLOYS: Final = tuple(
    sorted(
        [Deploy(first - 0.2, release) for release, spans in LIVE.items() for first, _ in spans if first > 0]
        + [Deploy(CANARY[0] - 0.1, "3.1.0", canary=True)],
        key=lambda deploy: deploy.hour,
    )
)


@dataclass(frozen=True)
class Change:
    """A commit of the line's repository: files as they stand in its release, or a line in NOTES.md when there is none."""

    release: str
    hour: float
    author: str
    subject: str
    files: tuple[str, ...] = ()


CHANGES: Final = (
    Change("2.8.0", -300, "Ida Moss", "Sell crossings at the counter", ("sailings",)),
    Change("2.8.0", -290, "Bram Vos", "Print passes and manifests", ("gatekeeper",)),
    Change("2.8.0", -280, "Zoë Hart", "Put a page on the pier", ("pierboard",)),
    Change("2.9.0", 60, "Ida Moss", "Take campervans on board", ("sailings/fares.py",)),
    Change("2.9.0", 66, "Per Lund", "Ask the tide service how deep it is", ("sailings/boardings.py", "sailings/tides.py")),
    Change("2.9.0", 70, "Bram Vos", "Print names the printers do not know", ("gatekeeper/passes.py",)),
    Change("2.9.0", 80, "Zoë Hart", "Note the winter hours"),
    Change("2.9.1", 120, "Per Lund", "Give the Tern two more places", ("sailings/fleet.py",)),
    Change("2.9.1", 130, "Zoë Hart", "Word the confirmation better", ("sailings/mail.py",)),
    Change("3.0.0", 150, "Ida Moss", "Offer trailers", ("sailings/fares.py",)),
    Change("3.0.0", 160, "Per Lund", "Wait less long for the tide service", ("sailings/tides.py",)),
    Change("3.0.0", 170, "Zoë Hart", "Let the kiosk print passes", ("sailings/app.py", "sailings/passes.py", "pierboard/page.py")),
    Change("3.0.0", 176, "Bram Vos", "Look at how much paper is left", ("gatekeeper/passes.py", "gatekeeper/jobs.py")),
    Change("3.0.0", 180, "Zoë Hart", "Note who has the keys to the office"),
    Change("3.0.1", 218, "Per Lund", "Ask the tide service twice", ("sailings/tides.py",)),
    Change("3.0.1", 220, "Bram Vos", "Take a vehicle that nobody weighed for two tonnes", ("gatekeeper/manifests.py",)),
    Change("3.1.0", 260, "Ida Moss", "Announce piers by their names", ("sailings/timetable.py",)),
    Change("3.1.0", 270, "Zoë Hart", "Note the summer hours"),
)  # fmt: skip


@dataclass(frozen=True)
class Choice:
    """What somebody decides at the end of a day, on the issues of this type and place."""

    day: int
    app: str
    type: str
    place: str
    decision: str
    order: tuple[tuple[str, Any], ...] = ()


CHOICES: Final = (
    Choice(3, "sailings", "SailingFull", "sailings.boardings.board", "accept"),
    Choice(3, "sailings", "FareUnknown", "sailings.fares.surcharge", "settle", (("release", "2.9.0"),)),
    Choice(3, "gatekeeper", "UnicodeEncodeError", "gatekeeper.passes.encode", "settle", (("release", "2.9.0"),)),
    Choice(
        5,
        "gatekeeper",
        "ConnectionResetError",
        "gatekeeper.jobs._beat",
        "park",
        (("failures", 2000), ("another", ["release"])),
    ),
    Choice(
        5, "sailings", "AssertionError", "sailings.boardings.check_height", "park", (("failures", 10), ("people", 40))
    ),
    Choice(8, "sailings", "TideUnavailable", "sailings.tides.read", "settle", (("release", "3.0.1"),)),
    Choice(8, "gatekeeper", "ValueError", "gatekeeper.manifests.field", "settle", (("release", "3.0.1"),)),
    Choice(11, "sailings", "KeyError", "sailings.timetable.connections", "settle", (("release", "3.1.0"),)),
    Choice(12, "sailings", "MailRefused", "sailings.mail.hand_over", "settle", (("how", "coming"),)),
)


@dataclass(frozen=True)
class Written:
    """What somebody writes on the issues of this type: a note, or a check with what was looked at and what was found."""

    type: str
    text: str = ""
    looked_at: str = ""
    found: str = ""
    output: str = ""


PEOPLE: Final = ("Ida Moss", "Bram Vos", "Per Lund", "Zoë Hart")
"""Who works here beside the owner; all of them decide."""
OWNERS: Final = """\
# Who takes care of what, and who is asked first.
*                        @skerry/line
/sailings/               @per-lund
/sailings/fares.py       @ida-moss @per-lund
/sailings/mail.py        zoe.hart@skerry.example
"""
LISTS: Final = (
    ("Mine", {"question": "with=me"}),
    ("Unassigned", {"question": "not with exists not state=settled"}),
    ("Boardings", {"question": "entry_point~boardings", "sort": "failures"}),
)
TICKETS: Final = ("SL-{number}", "https://tickets.skerry.example/SL-{number}")
CHECK_LIST: Final = (
    "Boardings fail",
    "sailings",
    (
        ("disk has room", "df -h /var/lib/sailings"),
        ("tide service answers", "curl -m 2 http://tides/health"),
        ("gate has paper", ""),
        ("clocks agree", "chronyc tracking"),
    ),
)
WRITTEN: Final = (
    Written("TideUnavailable", "Since 3.0.0 we wait 800 ms where it was 3 s. The tide office says **two seconds are usual at spring tide**: SL-204."),
    Written("TideUnavailable", "", "disk has room", "ruled out", "Filesystem      Size  Used Avail Use% Mounted on\n/dev/vda1        40G   17G   23G  43% /var/lib/sailings\n"),
    Written("TideUnavailable", "Answers, but late: 2.1 s and 1.9 s in two tries.", "tide service answers", "suspicious"),
    Written("FareUnknown", "Campervans with a trailer are offered since 3.0.0, and nobody gave them a price. The fix lies ready as 3.1.1: SL-219."),
)  # fmt: skip


def acts_of(player: Player, day: int, start_ms: int) -> Iterator[Act]:
    """Yield what a player meets on one day, in order of time."""
    dice = random.Random(f"{SEED} {player.app} {player.host} {day}")
    times = sorted(int(dice.random() * (DAY_MS - 60_000)) for _ in range(player.acts_a_day))
    acts = [*_journeys(player, day, start_ms), *_boardings(player, day, start_ms)] if player.journeys else []
    for moment in times:
        time_ms = start_ms + day * DAY_MS + moment
        if player.app == "sailings":
            act = _request(dice, player, time_ms)
        elif player.app == "gatekeeper":
            act = _job(dice, time_ms, day * 24 + moment / HOUR_MS)
        else:
            act = _page(dice, player, time_ms)
        if player.runs_at(day * 24 + moment / HOUR_MS):
            acts.append(act)
    yield from sorted(acts, key=lambda act: act.time_ms)


def _from(player: Player, release: str) -> bool:
    return (compare(player.release, release) or 0) >= 0


def _journeys(player: Player, day: int, start_ms: int) -> Iterator[Act]:
    """Passengers who print their pass at the kiosk, since 3.0.0: one trace from the page through sailings to the gate."""
    dice = random.Random(f"{SEED} journeys {day}")
    for _ in range(30):
        moment, trace = int(dice.random() * (DAY_MS - 60_000)), f"{dice.getrandbits(128):032x}"
        passenger, name = f"p-{dice.randint(101, 140)}", dice.choice(NAMES)
        # One printer holds less paper than the others.
        pier = dice.choice(PIERS)
        out = pier == OUT_OF_PAPER and dice.random() < 0.24
        if not _from(player, "3.0.0") or not player.runs_at(day * 24 + moment / HOUR_MS):
            continue
        time_ms = start_ms + day * DAY_MS + moment
        if player.app == "pierboard":
            yield Act(
                time_ms, "print_pass", {"passenger": passenger, "pier": pier, "status": 500 if out else 201}, trace
            )
        elif player.app == "sailings":
            gate = "no paper" if out else "printed"
            yield Act(time_ms + 40, "POST", {"path": "/passes", "passenger": passenger, "gate": gate}, trace)
        else:
            with_ = {"passenger": passenger, "name": name, "paper_mm": 40 if out else 5000, "pier": pier}
            yield Act(time_ms + 70, "print_pass", with_, trace)


def _boardings(player: Player, day: int, start_ms: int) -> Iterator[Act]:
    """Passengers whose page sends an empty height, with 3.1.0: one trace from the page to sailings, which refuses; nothing is raised."""
    dice = random.Random(f"{SEED} boardings {day}")
    moments = [(f"p-{dice.randint(103, 140)}", int(dice.random() * (DAY_MS - 60_000))) for _ in range(8)]
    # Two hours before the story ends, p-102 tries twice, and then asks at the office.
    moments += [("p-102", LAST_TRY_MS), ("p-102", LAST_TRY_MS + 41_000)] if day == DAYS - 1 else []
    for passenger, moment in moments:
        trace, sailing = f"{dice.getrandbits(128):032x}", f"SK-{dice.randint(4000, 4999)}"
        if not _from(player, "3.1.0") or not player.runs_at(day * 24 + moment / HOUR_MS):
            continue
        time_ms = start_ms + day * DAY_MS + moment
        if player.app == "pierboard":
            yield Act(time_ms, "board", {"passenger": passenger, "height_text": "", "status": 422}, trace)
        elif player.app == "sailings":
            body = {"passenger": passenger, "vehicle_height_m": ""}
            yield Act(time_ms + 30, "POST", {"path": f"/sailings/{sailing}/boardings", "body": body, "passenger": passenger}, trace)  # fmt: skip


def _request(dice: random.Random, player: Player, time_ms: int) -> Act:
    passenger = f"p-{dice.randint(101, 140)}"
    sailing = f"SK-{dice.randint(4000, 4999)}"
    kind = dice.random()
    if kind < 0.4:
        classes = ["none", "bicycle", "car", "car", "van"] * 4 + ["campervan"]
        if _from(player, "3.0.0"):
            # Trailers are offered since then: the fix of 2.9.0 did not think of them.
            classes += ["campervan with trailer"] * 4
        query = {"vehicle_class": dice.choice(classes), "passengers": dice.randint(1, 5)}
        return Act(time_ms, "GET", {"path": f"/sailings/{sailing}/fare", "query": query, "passenger": passenger})
    if kind < 0.65:
        # The winter timetable has a pier that no vessel calls at any more, and one that was given up.
        goal = "old-quay" if dice.random() < 0.015 else dice.choice(PIERS)
        start = "skerry-light" if dice.random() < 0.008 else dice.choice(PIERS)
        return Act(
            time_ms, "GET", {"path": f"/timetable/{start}/connections", "query": {"to": goal}, "passenger": passenger}
        )
    body: dict[str, Any] = {"passenger": passenger}
    height = dice.random()
    if height < 0.5:
        body["vehicle_height_m"] = round(dice.uniform(1.4, 4.25), 2)
    elif height < 0.5 + _empty(player):
        # The page sent an empty field: refused, and nothing was raised.
        body["vehicle_height_m"] = ""
    return Act(time_ms, "POST", {"path": f"/sailings/{sailing}/boardings", "body": body, "passenger": passenger})


def _empty(player: Player) -> float:
    """Return the share of boardings whose page sends an empty height: with 3.1.0 the page forgets to look."""
    return 0.08 if _from(player, "3.1.0") else 0.015


def _page(dice: random.Random, player: Player, time_ms: int) -> Act:
    empty = dice.random() < 2 * _empty(player)
    height = "" if empty else f"{dice.uniform(1.4, 4.1):.2f}"
    with_ = {"passenger": f"p-{dice.randint(101, 140)}", "height_text": height, "status": 422 if empty else 201}
    return Act(time_ms, "board", with_)


def _job(dice: random.Random, time_ms: int, hour: float) -> Act:
    kind = dice.random()
    if kind < 0.6:
        name = dice.choice(NAMES[:5]) if dice.random() < 0.5 else dice.choice(NAMES)
        return Act(time_ms, "print_pass", {"passenger": f"p-{dice.randint(101, 140)}", "name": name})
    if kind < 0.8:
        return Act(time_ms, "heartbeat", {"beats": dice.randint(1, 400)})
    rows: list[dict[str, Any]] = [
        {"row": i + 1, "weight_kg": str(dice.randint(800, 3200))} for i in range(dice.randint(3, 9))
    ]
    if dice.random() < 0.08:
        # One clerk leaves two fields empty. The second shows only since the first is forgiven.
        rows[-1] |= {"weight_kg": "", "goods": True, "goods_class": ""}
    if hour >= END - 18 and dice.random() < 0.5:
        # Since this morning somebody writes thousands apart.
        rows[0]["weight_kg"] = f"{dice.randint(1000, 3200):,}"
    return Act(time_ms, "nightly_manifest", {"sailing": f"SK-{dice.randint(4000, 4999)}", "rows": rows})
