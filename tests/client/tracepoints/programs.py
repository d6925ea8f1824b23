"""Programs that tracepoints are set in: an app of the ferry line, and what sets them without a service."""

from __future__ import annotations

import json
import subprocess
import textwrap
from pathlib import Path
from typing import Any

from tests.client.interpreters import script

FARES = """\
import asyncio, functools

def announced(function):
    @functools.wraps(function)
    def inside(*given, **named):
        return function(*given, **named)
    return inside

class Fares:
    rate = 3
    limit = 4

    def quote(self, passengers, vehicle=None):
        base = 12.5
        total = base * passengers
        if vehicle:
            total += 40
        for extra in range(2):
            total += extra
        return total

    @property
    def asked(self):
        raise SystemExit("a property was run")

@announced
def surcharge(passengers):
    share = passengers + 1
    return share

def per_vehicle(length):
    def fare(passengers):
        found = passengers + length
        return found
    return fare

def sailings(count):
    for number in range(count):
        yield number * 2

async def berth(number):
    await asyncio.sleep(0)
    found = number + 1
    return found

def large(lengths):
    return [
        length * 2
        for length in lengths
        if length > 1
    ]

by_length = lambda vehicle: vehicle + 1
def on_one_line(): return 1; return 2

def board(gangway):
    try:
        1 / gangway
    except ZeroDivisionError:
        return "up"
    finally:
        gangway = 5
    return "down"

def deck(card_number):
    password = "hunter2"
    return len(card_number)
"""
LINES = {text.strip(): number for number, text in enumerate(FARES.splitlines(), 1)}
"""Number of a line by its text."""

PREAMBLE = '''
import json, sys, os
from obitus.client.reporter import Reporter
from obitus.client.settings import load
from obitus.client.tracepoints.within import Tracepoints
sys.path.insert(0, os.getcwd())
reports, number = [], [0]

class Sink:
    full, is_awake, waiting, dropped = False, True, 0, {}
    def put(self, report): reports.append(report); return True
    def wake(self): pass

# What they may cost has tests of its own: here a machine that is busy with something else must not switch one off.
settings = load(url="http://127.0.0.1:9", key="okey_x", release="2.9.0", spool="off", tracepoints=True, tracepoints_share=100.0)
reporter = Reporter(settings, hooks=False, keeps=False)
reporter.base.sender.close()
reporter.base.sender = Sink()
requested = Tracepoints(reporter.base, reporter.failures.capture, reporter.runs, ()).requested
requested._within.budget._burst_ns = 10**12

def ask(*orders, version=None, environment="production", **more):
    """Let exactly these stand; each gets a number of its own, unless it has one."""
    number[0] += 1
    made = [{"id": number[0] * 100 + place, "file": "fares.py", "seconds": 60, "hits": 1000, "per_second": 100} | order for place, order in enumerate(orders)]
    requested.learn_from({"tracepoints": {"version": number[0] if version is None else version, "environment": environment, "set": made} | more})
    requested.tend()

def seen(act):
    """Return what was seen while something was done: the messages."""
    reports.clear()
    act()
    return [report["message"] for report in reports]

def drive(coroutine):
    """Run a coroutine that waits for nothing."""
    while True:
        try: coroutine.send(None)
        except StopIteration as ended: return ended.value

def states(): return [(one["state"], one["why"]) for one in requested.states()]
'''


def ran(python: str, folder: Path, code: str, timeout: float = 500) -> Any:
    """Run a program beside ``fares.py`` and return what it printed as JSON on its last line."""
    (folder / "fares.py").write_text(FARES)
    ended: subprocess.CompletedProcess[str] = script(python, folder, PREAMBLE + textwrap.dedent(code), timeout=timeout)
    assert ended.returncode == 0, ended.stdout + ended.stderr
    return json.loads(ended.stdout.splitlines()[-1])
