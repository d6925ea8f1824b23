"""Who goes on board."""

import logging

import obitus
from sailings import tides

log = logging.getLogger("sailings.boardings")


class SailingFull(Exception):
    """Every place of a sailing is taken."""


def board(sailing, passenger, vehicle_height_m):
    obitus.mark("places counted", taken=sailing.taken, places=sailing.places)
    if vehicle_height_m is not None:
        depth_m = tides.depth_at("eastholm", sailing.id)
        check_height(sailing, vehicle_height_m, depth_m)
    if sailing.taken >= sailing.places:
        log.warning("sailing %s has no place left", sailing.id)
        raise SailingFull(f"sailing {sailing.id} has 0 of {sailing.places} places left for {passenger}")
    return sailing.taken + 1


def check_height(sailing, vehicle_height_m, depth_m):
    assert depth_m > 3.0, "too shallow"
    assert vehicle_height_m < sailing.clearance_m, f"{vehicle_height_m} m does not fit under the deck"
