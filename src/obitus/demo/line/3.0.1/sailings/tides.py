"""The depth at the pier, from the tide service."""

import logging

import obitus

log = logging.getLogger("sailings.tides")

PATIENCE_MS = 800
SECOND_TRY_FASTER_MS = 170


class TideUnavailable(Exception):
    """The tide service did not answer in time."""


def depth_at(pier, answers_after_ms):
    obitus.mark("tide service asked", pier=pier, waits_ms=PATIENCE_MS)
    try:
        return read_twice(answers_after_ms)
    except TimeoutError as error:
        log.error("tide service gave no answer in %d ms", PATIENCE_MS)
        raise TideUnavailable(f"no depth for {pier} after {PATIENCE_MS} ms") from error


def read_twice(answers_after_ms):
    """Ask again: the second time the service has its answer at hand, mostly."""
    try:
        return read(answers_after_ms)
    except TimeoutError:
        log.warning("tide service is asked once more")
        return read(answers_after_ms - SECOND_TRY_FASTER_MS)


def read(answers_after_ms):
    if answers_after_ms > PATIENCE_MS:
        raise TimeoutError(f"no answer after {answers_after_ms} ms")
    return 6.4
