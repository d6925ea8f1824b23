"""What a ticket for a group costs."""

import logging

log = logging.getLogger("ticketdesk.fares")

PENCE_PER_PASSENGER = 880
GROUP_FROM = 5
GROUP_PENCE = 1200


def ticket(passengers: int) -> int:
    """Return what a ticket costs, in pence."""
    base = passengers * PENCE_PER_PASSENGER
    if passengers < GROUP_FROM:
        return base
    return base + surcharge(passengers)


def surcharge(passengers: int) -> int:
    """Return what a group pays for its berth, the same for each of them."""
    share = GROUP_PENCE // passengers
    paid = share * passengers
    if paid != GROUP_PENCE:
        log.warning("the till is %d p short", GROUP_PENCE - paid)
    return paid
