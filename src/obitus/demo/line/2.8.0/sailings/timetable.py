"""When which vessel sails, and how to get from one pier to another."""

from dataclasses import dataclass

from sailings import fleet

NEXT_PIER = {
    "merrow": "eastholm",
    "eastholm": "gannet-stack",
    "gannet-stack": "corrie-point",
    "corrie-point": "merrow",
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
    if pier == to:
        return [pier]
    return [pier, *connections(NEXT_PIER[pier], to)]
