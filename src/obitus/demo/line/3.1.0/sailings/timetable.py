"""When which vessel sails, and how to get from one pier to another."""

from dataclasses import dataclass

from sailings import fleet

NEXT_PIER = {
    "merrow": "eastholm",
    "eastholm": "gannet-stack",
    "gannet-stack": "corrie-point",
    "corrie-point": "merrow",
}


ANNOUNCED = {
    "merrow": "Merrow pier",
    "eastholm": "Eastholm, change for the mainland",
    "gannet-stack": "Gannet Stack, on request",
}


@dataclass
class Sailing:
    id: str
    vessel: str
    places: int
    taken: int
    clearance_m: float


def sailing(sailing_id):
    number = int(sailing_id.removeprefix("SK-"))
    if number % 97 == 0:
        return None
    vessel = ("Tern", "Petrel", "Kittiwake")[number % 3]
    places, clearance_m = fleet.vessel(vessel)
    return Sailing(sailing_id, vessel, places, taken=places if number % 41 == 0 else number % 60, clearance_m=clearance_m)


def connections(pier, to):
    """Follow the vessels from pier to pier until the right one is reached."""
    if pier == "skerry-light":
        # Nothing sails there any more.
        return []
    if pier == to:
        return [announce(pier)]
    return [pier, *connections(NEXT_PIER[pier], to)]


def announce(pier):
    return ANNOUNCED[pier]
