"""What a crossing costs."""

import logging

log = logging.getLogger("sailings.fares")

PENCE_PER_PASSENGER = 880
OFFERED = ("car", "van", "campervan", "campervan with trailer")
PENCE_BY_CLASS = {"none": 0, "bicycle": 250, "car": 3900, "van": 5200, "campervan": 6100, "campervan with trailer": 8300}


class FareUnknown(Exception):
    """No fare is known for what somebody wants to bring on board."""


def quote(sailing_id, vehicle_class, passengers):
    base = passengers * PENCE_PER_PASSENGER
    log.info("base fare of %s is %d", sailing_id, base)
    return base + surcharge(" ".join(vehicle_class.split()))


def surcharge(vehicle_class):
    try:
        return PENCE_BY_CLASS[vehicle_class]
    except KeyError as error:
        raise FareUnknown(f"no fare for a {vehicle_class}") from error
