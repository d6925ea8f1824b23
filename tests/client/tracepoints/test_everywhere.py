"""On every line of modules of the standard library: their own tests come out the same, and each line is seen as often as it runs."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

from tests.client.interpreters import every_version, script

PROGRAM = '''
import importlib, io, json, sys, unittest
from obitus.client.tracepoints.places import INLINED, PlacedTracepoint, lines_of, loaded
if sys.version_info >= (3, 12):
    from obitus.client.tracepoints.monitored import Monitored as Engine
else:
    from obitus.client.tracepoints.rewritten import Rewritten as Engine

class Order:
    def __init__(self, line): self.line = self.id = line

class Point:
    def __init__(self, line): self.order, self.times = Order(line), 0
    def run(self, frame):
        self.times += 1
        assert frame.f_lineno == self.order.line
        frame.f_locals

def outcome(name):
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    found = unittest.TextTestRunner(stream=io.StringIO()).run(suite)
    return [found.testsRun, sorted(str(test) for test, _ in found.failures), sorted(str(test) for test, _ in found.errors), len(found.skipped)]

def counted(name, file):
    """Return how often each line ran, by the interpreter's own tracing."""
    seen = {}
    def trace(frame, event, arg):
        code = frame.f_code
        if code.co_filename != file or code.co_name in INLINED: return None
        if event == "line": seen[code.co_qualname, frame.f_lineno] = seen.get((code.co_qualname, frame.f_lineno), 0) + 1
        return trace
    sys.settrace(trace)
    try: outcome(name)
    finally: sys.settrace(None)
    return seen

results = []
for pair in sys.argv[1:]:
    module, _, test = pair.partition("=")
    file = importlib.import_module(module).__file__
    try: importlib.import_module(test)
    except ImportError: continue
    outcome(test)
    before = outcome(test)
    engine, places = Engine(), {file: loaded([file])[file]}
    points, targets = {}, []
    for code in places[file].all_code().values():
        for line in lines_of(code):
            point = points[code.co_qualname, line] = Point(line)
            targets.append(PlacedTracepoint(point, (code,)))
    troubles = engine.use(targets, places)
    during = outcome(test)
    for point in points.values(): point.times = 0
    seen = counted(test, file)
    times = {key: point.times for key, point in points.items()}
    engine.end()
    for point in points.values(): point.times = 0
    after = outcome(test)
    wrong = {f"{key}": [count, times[key]] for key, count in seen.items() if key in times and times[key] != count}
    results.append([module, before, during, after, len(points), len(seen), wrong, troubles, sum(point.times for point in points.values())])
print(json.dumps(results))
'''
MODULES = (
    "textwrap=test.test_textwrap",
    "shlex=test.test_shlex",
    "contextlib=test.test_contextlib",
    "fractions=test.test_fractions",
)


@every_version
def test_the_standard_library_under_its_own_tests(python: str, tmp_path: Path) -> None:
    """With a tracepoint on every line nothing comes out differently, then or afterwards; none is missed, none seen twice."""
    ended: subprocess.CompletedProcess[str] = script(python, tmp_path, PROGRAM, *MODULES, timeout=400)
    assert ended.returncode == 0, ended.stdout + ended.stderr
    results = json.loads(ended.stdout.splitlines()[-1])
    assert results, "this interpreter came without the tests of its own library"
    for module, before, during, after, points, seen, wrong, troubles, left in results:
        assert before == during == after, module
        assert not troubles and left == 0 and points > 100 and seen > 100, module
        # A comprehension on one line is one with its function's line for newer interpreters, but not for their own tracing.
        assert len(wrong) <= 1 and all(count > times > 0 for count, times in wrong.values()), (module, wrong)
