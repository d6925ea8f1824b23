"""``/api/apps/{name}/log-orders``: temporary thresholds of an app's loggers, without a new deploy."""

from __future__ import annotations

from typing import Annotated, Final

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import MINUTE_MS, to_text
from obitus.service.api.answers import Done, Time
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.intake.formats import Severity
from obitus.service.intake.intake import TheIntake
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import log_orders as store

router = Router(
    prefix="/api/apps/{name}/log-orders",
    tags=["apps"],
    dependencies=[Depends(signed_in)],
    responses=described(
        "not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "not-found", "store-broken"
    ),
)

LONGEST_MINUTES: Final = 1440
AppName = Annotated[str, Path(max_length=100, description="The app.")]


class LogOrderAnswer(BaseModel):
    """A temporary threshold of a logger and those below it."""

    id: int
    logger: str = Field(description="'' for all loggers.")
    severity: Severity
    environment: str = Field(description="'' for all environments.")
    made: Time
    until: Time
    person: str


class LogOrdersAnswer(BaseModel):
    """The active orders for an app's loggers."""

    orders: list[LogOrderAnswer]


class LogOrder(BaseModel):
    """An order for a logger."""

    model_config = ConfigDict(extra="forbid", strict=True)

    logger: Annotated[str, Field(max_length=200)] = Field(default="", description="'' for all loggers.")
    severity: Severity
    minutes: Annotated[int, Field(ge=1, le=LONGEST_MINUTES)] = 15
    environment: Annotated[str, Field(max_length=100)] = Field(default="", description="'' for all environments.")


@router.get("", summary="What loggers send for a while")
def orders(records: TheRecords, clock: TheClock, name: AppName) -> LogOrdersAnswer:
    """Return the active orders for an app's loggers, and who gave them."""
    app_id = store.app_named(records.reader, name)
    found = [order_row for order_row in store.active(records.reader, clock.now_ms()) if order_row.app_id == app_id]
    return LogOrdersAnswer(
        orders=[
            LogOrderAnswer(
                id=order_row.id,
                logger=order_row.logger,
                severity=order_row.severity,
                environment=order_row.environment,
                made=to_text(order_row.made_ms),
                until=to_text(order_row.until_ms),
                person=order_row.person,
            )
            for order_row in found
        ]
    )


@router.post("", summary="Let a logger send more for a while", status_code=201, responses=described("too-many"))
def order(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    intake: TheIntake,
    person: SignedIn,
    name: AppName,
    order: LogOrder,
) -> LogOrdersAnswer:
    """Order a logger, and those below it, to send from a severity on. The app's clients get the order with their next answer."""
    app_id = store.app_named(records.reader, name)
    now_ms = clock.now_ms()
    until_ms = now_ms + order.minutes * MINUTE_MS
    what = f"{name}: {order.logger or 'all loggers'} from {order.severity} for {order.minutes} min"
    acts.do(
        person.id,
        "ordered logs",
        f"{what} in {order.environment}" if order.environment else what,
        lambda c: store.add(
            c,
            app_id,
            order.environment,
            order.logger,
            order.severity,
            person_id=person.id,
            now_ms=now_ms,
            until_ms=until_ms,
        ),
    )
    intake.load_log_orders()
    return orders(records, clock, name)


@router.delete("/{number}", summary="End an order for loggers")
def end(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    intake: TheIntake,
    person: SignedIn,
    name: AppName,
    number: Annotated[int, Path(ge=1, le=2**62)],
) -> Done:
    """End an order; the app's clients get that with their next answer."""
    app_id, now_ms = store.app_named(records.reader, name), clock.now_ms()
    acts.do(
        person.id,
        "ended logs order",
        lambda logger: f"{name}: {logger or 'all loggers'}",
        lambda c: store.end(c, app_id, number, now_ms),
    )
    intake.load_log_orders()
    return Done()
