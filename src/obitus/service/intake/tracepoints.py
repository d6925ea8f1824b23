"""``POST /tracepoints``: clients ask for tracepoints, wait for changes, and report their states."""

from __future__ import annotations

import json
from typing import Annotated, Final, Literal

from fastapi import Request, Security
from fastapi.security.http import HTTPAuthorizationCredentials
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.tracepoints.orders import MOST_OF_AN_APP
from obitus.service.dependencies import TheClock
from obitus.service.intake.bodies import SECONDS_OF_A_WRITE
from obitus.service.intake.formats import Long, Medium, Short, TracepointsPart
from obitus.service.intake.intake import TheIntake
from obitus.service.intake.senders import reporting_key_scheme, sender_key
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.tracepoints import Instance, TheTracepoints, TooManyWait
from obitus.store.rows.tracepoints import InstanceState

router = Router(tags=["reports"])
LONGEST_WAIT_S: Final = 30.0
SECONDS_OF_ASKING: Final = 0.0005
"""Approximate work of the service."""
State = Literal["set", "waits", "not set", "over"]
Count = Annotated[int, Field(ge=0, le=2**53)]


class StateOfOne(BaseModel):
    """The state of a tracepoint in one process."""

    model_config = ConfigDict(extra="ignore", strict=True)

    id: Annotated[int, Field(ge=1, le=2**53)]
    state: State
    why: Long = Field(default="", description="Why it is not set, or a remark where it is.")
    trouble: Long = Field(
        default="", description="Why its condition could not be evaluated, the last time that it could not."
    )
    offers: Annotated[list[Annotated[int, Field(ge=0)]], Field(max_length=10)] = Field(
        default=[], description="Lines near it that can have a tracepoint."
    )
    file: Medium = Field(default="", description="The file in which it is set.")
    looked: Count = Field(default=0, description="How often the line ran.")
    hits: Count = 0
    left_out: Count = Field(default=0, description="Hits that were too many in a second.")
    cost_ms: Annotated[float, Field(ge=0)] = Field(default=0.0, description="Time that it took, in milliseconds.")


class InstanceAsks(BaseModel):
    """A process that allows tracepoints."""

    model_config = ConfigDict(extra="ignore", strict=True)

    instance: Annotated[str, Field(min_length=1, max_length=100)] = Field(
        description="OpenTelemetry's service.instance.id."
    )
    host: Short = ""
    pid: Count = 0
    release: Short = ""
    runtime: Short = Field(default="", description="`Python 3.12.1`")
    client: Short = Field(default="", description="Version of the client.")
    version: Annotated[int, Field(ge=0)] = Field(default=0, description="The list that it has; 0 for none.")
    wait_s: Annotated[float, Field(ge=0)] = Field(
        default=0.0, description="How long to wait where nothing has changed."
    )
    states: Annotated[list[StateOfOne], Field(max_length=2 * MOST_OF_AN_APP)] = []


class AskedAnswer(BaseModel):
    """The tracepoints and orders for a process."""

    tracepoints: TracepointsPart


@router.post(
    "/tracepoints",
    summary="Ask which tracepoints are set",
    responses=described(
        "no-key", "unknown-key", "revoked-key", "not-a-reporting-key", "too-busy", "bad-field", "store-broken"
    ),
)
async def asked(
    request: Request,
    asks: InstanceAsks,
    intake: TheIntake,
    clock: TheClock,
    tracepoints: TheTracepoints,
    _: Annotated[HTTPAuthorizationCredentials | None, Security(reporting_key_scheme)] = None,
) -> AskedAnswer:
    """Return the tracepoints of an app: at once where the process has other ones, else when they change. A process
    without an answer within a minute removes all of its tracepoints.
    """
    key = await sender_key(intake, request.headers.get("authorization", ""))
    instance = Instance(
        key.app_id,
        asks.instance,
        asks.host,
        asks.pid,
        asks.release,
        key.environment,
        asks.runtime,
        asks.client,
        clock.now_ms(),
    )
    async with intake.gate.entered(key.id) as held:
        tracepoints.add_instance(instance)
        is_news = await tracepoints.said(instance, tuple(_state(instance, one) for one in asks.states))
        held.spend(SECONDS_OF_A_WRITE * len(asks.states) if is_news else SECONDS_OF_ASKING)
    try:
        await tracepoints.changed(key.app_id, asks.version, min(LONGEST_WAIT_S, asks.wait_s))
    except TooManyWait:
        raise Problem("too-busy", "As many processes wait as may. Ask again later.", retry_after_s=30) from None
    return AskedAnswer(tracepoints=TracepointsPart(**tracepoints.list_for(key.app_id, key.environment)))


def _state(instance: Instance, state: StateOfOne) -> InstanceState:
    reported = {"why": state.why, "trouble": state.trouble, "file": state.file, "offers": state.offers}
    return InstanceState(
        tracepoint_id=state.id,
        instance=instance.instance,
        app_id=instance.app_id,
        host=instance.host,
        pid=instance.pid,
        release=instance.release,
        environment=instance.environment,
        runtime=instance.runtime,
        state=state.state,
        said=json.dumps(reported, ensure_ascii=False),
        looked=state.looked,
        hits=state.hits,
        left_out=state.left_out,
        cost_ms=state.cost_ms,
        said_ms=instance.last_request_ms,
    )
