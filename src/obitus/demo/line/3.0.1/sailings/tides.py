"""The depth at the pier, from the tide service."""

import logging

import httpx

import obitus

log = logging.getLogger("sailings.tides")

PATIENCE_MS = 800
service = httpx.Client(base_url="https://tides.skerry.example", timeout=PATIENCE_MS / 1000)


class TideUnavailable(Exception):
    """The tide service did not answer in time."""


def depth_at(pier, sailing_id):
    obitus.mark("tide service asked", pier=pier, waits_ms=PATIENCE_MS)
    try:
        depth_m = read_twice(pier, sailing_id)
    except TimeoutError as error:
        log.error("tide service gave no answer in %d ms", PATIENCE_MS)
        raise TideUnavailable(f"no depth for {pier} after {PATIENCE_MS} ms") from error
    log.info("depth at %s is %.1f m", pier, depth_m)
    return depth_m


def read_twice(pier, sailing_id):
    """Ask again: the second time the service has its answer at hand, mostly."""
    try:
        return read(pier, sailing=sailing_id)
    except TimeoutError:
        log.warning("tide service is asked once more")
        return read(pier, sailing=sailing_id, again=1)


def read(pier, **asked):
    try:
        answer = service.get("/depth", params={"pier": pier, **asked})
    except httpx.TimeoutException:
        raise TimeoutError(f"no answer after {PATIENCE_MS} ms") from None
    return answer.json()["depth_m"]
