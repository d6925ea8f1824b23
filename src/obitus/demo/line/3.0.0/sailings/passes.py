"""Passes are printed by the gate; the pier's kiosk asks for them here."""

import obitus


class PassNotPrinted(Exception):
    """The gate could not print a pass."""


def order(passenger, gate_answers):
    obitus.mark("gate asked for a pass", passenger=passenger, **{"messaging.destination.name": "print-pass"})
    if gate_answers != "printed":
        raise PassNotPrinted(f"the gate answered {gate_answers!r} for {passenger}")
    return {"pass": passenger}
