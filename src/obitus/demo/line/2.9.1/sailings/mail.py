"""Confirmations by mail. A mail that cannot be sent must not stop a boarding."""

import logging

import obitus

log = logging.getLogger("sailings.mail")


class MailRefused(Exception):
    """The mail relay did not take a confirmation."""


def confirm(passenger, sailing_id, place):
    try:
        hand_over(f"{passenger}@passengers.skerry.example", f"Your place on {sailing_id} is {place}.")
    except MailRefused as error:
        log.warning("no confirmation for %s", passenger)
        obitus.record(error)


def hand_over(address, text):
    if sum(address.encode()) % 53 == 0:
        raise MailRefused(f"relay answered 451 to {address}")
