"""The jobs, each a run of its own."""

import logging
import threading

import httpx

import obitus
from gatekeeper import manifests, passes

log = logging.getLogger("gatekeeper")
harbour_office = httpx.Client(base_url="https://harbour.skerry.example", timeout=5)


@obitus.run("job print-pass")
def print_pass(passenger, name, paper_mm=passes.LONGEST_MM, pier=""):
    obitus.attach({"user.id": passenger, "pier": pier} if pier else {"user.id": passenger})
    log.info("pass for %s", passenger)
    return passes.render(name, passenger, paper_mm)


@obitus.run("job nightly-manifest")
def nightly_manifest(sailing, rows):
    log.info("manifest of %s with %d rows", sailing, len(rows))
    total = manifests.total_weight(rows)
    goods = manifests.dangerous_goods(rows)
    harbour_office.post("/manifests", json={"sailing": sailing, "weight_kg": total, "goods": goods})
    return total, goods


def heartbeat(beats):
    """Tell the harbour office that the gate is alive, from a thread of its own."""
    thread = threading.Thread(target=_beat, args=(beats,), name="heartbeat")
    thread.start()
    thread.join()


def _beat(beats):
    obitus.mark("heartbeat", beats=beats)
    if beats % 19 == 0:
        raise ConnectionResetError(104, "Connection reset by peer")
