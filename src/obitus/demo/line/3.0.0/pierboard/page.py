"""What people press on the pier becomes a request to sailings."""

import logging

import httpx

import obitus

log = logging.getLogger("pierboard")

sailings = httpx.Client(base_url="https://sailings.skerry.example", timeout=5)


class NotConfirmed(Exception):
    """Sailings did not confirm what was asked for."""


@obitus.run("page /board")
def board(passenger, height_text):
    obitus.attach({"user.id": passenger})
    obitus.mark("pressed Board", height=height_text)
    # An empty field is sent as it is.
    status = ask("/boardings", {"passenger": passenger, "vehicle_height_m": height_text})
    if status == 422:
        log.warning("sailings refused the boarding of %s", passenger)
        return "Please ask at the office."
    return confirm(status, "boarding")


@obitus.run("page /pass")
def print_pass(passenger, pier):
    """Since 3.0.0 the kiosk prints passes itself."""
    obitus.attach({"user.id": passenger, "pier": pier})
    obitus.mark("pressed Print my pass")
    status = ask("/passes", {"passenger": passenger})
    return confirm(status, "pass")


def ask(path, body):
    log.info("sailings is asked for %s", path)
    return sailings.post(path, json=body).status_code


def confirm(status, what):
    if status >= 500:
        raise NotConfirmed(f"{what}: sailings answered {status}")
    return "Welcome on board."
