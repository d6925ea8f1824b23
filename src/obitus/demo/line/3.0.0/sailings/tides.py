"""The depth at the pier, from the tide service."""

import logging

import obitus

log = logging.getLogger("sailings.tides")

PATIENCE_MS = 800


class TideUnavailable(Exception):
    """The tide service did not answer in time."""


def depth_at(pier, answers_after_ms):
    obitus.mark("tide service asked", pier=pier, waits_ms=PATIENCE_MS)
    try:
        return read(answers_after_ms)
    except TimeoutError as error:
        log.error("tide service gave no answer in %d ms", PATIENCE_MS)
        raise TideUnavailable(f"no depth for {pier} after {PATIENCE_MS} ms") from error


def read(answers_after_ms):
    if answers_after_ms > PATIENCE_MS:
        raise TimeoutError(f"no answer after {answers_after_ms} ms")
    return 6.4
