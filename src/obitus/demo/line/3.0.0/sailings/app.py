"""The web service behind the ticket offices and the pier boards."""

import logging

from fastapi import Depends, FastAPI, Header, HTTPException
from pydantic import BaseModel

import obitus
from sailings import boardings, fares, mail, passes, timetable

log = logging.getLogger("sailings")
app = FastAPI()
app.add_middleware(obitus.AsgiMiddleware)


def who(x_passenger: str = Header("")):
    """Say who asks before anything is looked at, so that a request that is refused is somebody's, too."""
    obitus.attach({"user.id": x_passenger})


class Boarding(BaseModel):
    passenger: str
    vehicle_class: str | None = None
    vehicle_height_m: float | None = None


@app.get("/sailings/{sailing_id}/fare")
def fare(sailing_id: str, vehicle_class: str, passengers: int = 1, x_passenger: str = Header("")):
    obitus.attach({"user.id": x_passenger})
    log.info("fare asked for %s, %d passengers", vehicle_class, passengers)
    return {"pence": fares.quote(sailing_id, vehicle_class, passengers)}


@app.get("/timetable/{pier}/connections")
def connections(pier: str, to: str, x_passenger: str = Header("")):
    obitus.attach({"user.id": x_passenger})
    log.info("connections from %s to %s", pier, to)
    return {"calls": timetable.connections(pier, to)}


@app.post("/sailings/{sailing_id}/boardings", status_code=201, dependencies=[Depends(who)])
def board(sailing_id: str, boarding: Boarding):
    obitus.attach({"skerry.sailing": sailing_id})
    sailing = timetable.sailing(sailing_id)
    if sailing is None:
        raise HTTPException(404, f"no sailing {sailing_id}")
    log.info("boarding %s on the %s", boarding.passenger, sailing.vessel)
    place = boardings.board(sailing, boarding.passenger, boarding.vehicle_height_m)
    mail.confirm(boarding.passenger, sailing_id, place)
    return {"place": place}


@app.post("/passes", status_code=201)
def print_pass(x_passenger: str = Header(""), x_gate: str = Header("printed")):
    obitus.attach({"user.id": x_passenger})
    log.info("pass for %s", x_passenger)
    return passes.order(x_passenger, x_gate)
