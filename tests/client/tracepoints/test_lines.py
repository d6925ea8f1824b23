"""Which lines call back, and what is seen of them: on every interpreter that is there, by what it offers."""

from __future__ import annotations

import json
from pathlib import Path

from tests.client.interpreters import and_the_newest, every_version
from tests.client.tracepoints.programs import LINES, ran


@and_the_newest
def test_all_kinds_of_functions(python: str, tmp_path: Path) -> None:
    """Methods, decorated functions, closures, generators, coroutines, comprehensions, lambdas: each line once a time that it runs."""
    cases = [
        ("total = base * passengers", "fares.Fares().quote(4)", "passengers", ["passengers = 4"]),
        ("total += 40", "fares.Fares().quote(4)", "total", []),
        ("total += 40", "fares.Fares().quote(4, 'van')", "total", ["total = 50.0"]),
        ("for extra in range(2):", "fares.Fares().quote(2)", "total", ["total = 25.0", "total = 25.0", "total = 26.0"]),
        ("total += extra", "fares.Fares().quote(2)", "extra", ["extra = 0", "extra = 1"]),
        ("share = passengers + 1", "fares.surcharge(2)", "passengers", ["passengers = 2"]),
        ("found = passengers + length", "fares.per_vehicle(5)(1)", "length", ["length = 5"]),
        ("yield number * 2", "list(fares.sailings(3))", "number", ["number = 0", "number = 1", "number = 2"]),
        ("found = number + 1", "drive(fares.berth(3))", "number", ["number = 3"]),
        ("await asyncio.sleep(0)", "drive(fares.berth(3))", "number", ["number = 3"]),
        ("if length > 1", "fares.large([1, 2, 3])", "length", ["length = 1", "length = 2", "length = 3"]),
        ("by_length = lambda vehicle: vehicle + 1", "fares.by_length(3)", "vehicle", ["vehicle = 3"]),
        ("def on_one_line(): return 1; return 2", "fares.on_one_line()", "1", ["1 = 1"]),
        ("1 / gangway", "fares.board(0)", "gangway", ["gangway = 0"]),
        ("except ZeroDivisionError:", "fares.board(0)", "gangway", ["gangway = 0"]),
        ('return "up"', "fares.board(0)", "gangway", ["gangway = 0"]),
        ("gangway = 5", "(fares.board(0), fares.board(1))", "gangway", ["gangway = 0", "gangway = 1"]),
        ('return "down"', "(fares.board(0), fares.board(1))", "gangway", ["gangway = 5"]),
    ]  # fmt: skip
    table = [(LINES[text], call, value) for text, call, value, _ in cases]
    code = f"""
        import fares
        found = []
        for line, call, value in {table!r}:
            ask({{"line": line, "values": [value]}})
            act = compile(call, "call", "eval")
            found.append([states()[0], seen(lambda: eval(act))])
        ask()
        found.append(["after", seen(lambda: [eval(call) for _, call, _ in {table!r}])])
        print(json.dumps(found))
    """
    *found, after = ran(python, tmp_path, code)
    for (text, call, _, said), (state, messages) in zip(cases, found, strict=True):
        place = f"fares.py:{LINES[text]} "
        assert state == ["set", ""], (text, state)
        assert messages == [place + one for one in said], (text, call)
    assert after == ["after", []]


@and_the_newest
def test_what_a_hit_holds(python: str, tmp_path: Path) -> None:
    """Values, locals, stack, run with its attributes and trail; secrets by name are hidden, whatever the value is called."""
    code = f"""
        import fares
        from obitus.client.scope import RunScope
        ask({{"line": {LINES["total = base * passengers"]}, "condition": "passengers > 3", "message": "fare {{base}} for {{passengers}}",
             "values": ["passengers", "self.rate", "twice: passengers * 2", "self.asked", "nothing"], "collect": ["locals", "stack", "trail", "attributes"]}})
        scope = RunScope(reporter, "GET /fares", {{}})
        reporter.runs.attach({{"user.id": "p-102"}})
        reporter.runs.breadcrumb("mark", "asked", "INFO", {{}})
        def outer(): return fares.Fares().quote(4)
        assert outer() == 51.0 and fares.Fares().quote(3) == 38.5
        (report,) = reports
        scope.finish("ok")
        ask({{"line": {LINES["return len(card_number)"]}, "values": ["password", "plain: password", "password[0]"], "message": "with {{password}}", "collect": ["locals"]}})
        fares.deck("4111")
        from obitus.client.encoding import Encoder
        line = Encoder(settings, reporter.base.redactor, print, reporter.base.sender).line
        print(json.dumps([json.loads(line(report)), json.loads(line(reports[-1]))]))
    """
    report, secret = ran(python, tmp_path, code)
    assert report["message"] == "fare 12.5 for 4" and report["template"] == "fare {base} for {passengers}"
    assert report["kind"] == "log" and report["logger"] == "fares" and report["run"]["entry_point"] == "GET /fares"
    assert report["attributes"]["user.id"] == "p-102" and report["attributes"]["tracepoint.id"] == 100
    hit = report["hit"]
    assert hit["values"] == {
        "passengers": "4",
        "self.rate": "3",
        "twice": "8",
        "self.asked": "[no value: asked is a property, and properties are not run]",
        "nothing": "[no value: there is no nothing at this line]",
    }
    assert [frame["function"] for frame in hit["frames"]][-2:] == ["outer", "Fares.quote"]
    assert hit["frames"][-1]["locals"] | {"self": ""} == {
        "self": "",
        "passengers": "4",
        "vehicle": "None",
        "base": "12.5",
    }
    assert hit["frames"][-1]["source"]["line"].strip() == "total = base * passengers"
    assert [step["message"] for step in hit["trail"]] == ["asked"] and hit["number"] == 1
    assert "hunter2" not in json.dumps(secret) and secret["hit"]["values"]["plain"].startswith("[hidden")


@every_version
def test_the_module_and_what_is_imported_later(python: str, tmp_path: Path) -> None:
    """Code that is imported later is set as it comes; lines of a module are seen while it is imported, and again at a reload."""
    code = f"""
        import importlib
        found = []
        ask({{"line": {LINES["limit = 4"]}, "values": ["rate"]}}, {{"line": {LINES["share = passengers + 1"]}, "values": ["passengers"]}})
        found.append(states())
        import fares
        found.append(seen(lambda: importlib.import_module("fares")))
        found.append([report["message"] for report in reports])
        found.append(states())
        found.append(seen(lambda: fares.surcharge(3)))
        found.append(seen(lambda: importlib.reload(fares)))
        found.append(seen(lambda: fares.surcharge(4)))
        ask()
        found.append(seen(lambda: (importlib.reload(fares), fares.surcharge(4))))
        print(json.dumps(found))
    """
    waits, _, _, states, called, reloaded, again, over = ran(python, tmp_path, code)
    assert {state for state, _ in waits} == {"waits"} and "it is set when one is imported" in waits[0][1]
    assert {state for state, _ in states} == {"set"}
    assert called == [f"fares.py:{LINES['share = passengers + 1']} passengers = 3"]
    assert reloaded == [f"fares.py:{LINES['limit = 4']} rate = 3"]
    assert again == [f"fares.py:{LINES['share = passengers + 1']} passengers = 4"]
    assert over == []


@every_version
def test_what_runs_already(python: str, tmp_path: Path) -> None:
    """A call that is under way is seen at once where the interpreter can do that; else it is said that the next call is."""
    code = f"""
        import fares, threading, time
        going, turns = [True], [0]
        def pump():
            while going:
                turns[0] += 1
                time.sleep(0.001)
        generator = fares.sailings(3)
        next(generator)
        thread = threading.Thread(target=pump); thread.start()
        while not turns[0]: time.sleep(0.001)
        here = __file__
        ask({{"line": pump.__code__.co_firstlineno + 2, "file": os.path.basename(here), "values": ["going"]}}, {{"line": {LINES["yield number * 2"]}, "values": ["number"]}})
        said = states()
        before = turns[0]
        while turns[0] < before + 5: time.sleep(0.001)
        list(generator)
        going.clear(); thread.join()
        kinds = sorted({{report["message"].split()[0].split(":")[0] for report in reports}})
        print(json.dumps([said, kinds, list(sys.version_info[:2])]))
    """
    said, kinds, version = ran(python, tmp_path, code)
    assert [state for state, _ in said] == ["set", "set"]
    if version >= [3, 12]:
        assert kinds == ["boarding.py", "fares.py"] and {why for _, why in said} == {""}
    else:
        assert kinds == [] and all("from the next call on" in why for _, why in said)


@and_the_newest
def test_nothing_is_left_behind(python: str, tmp_path: Path) -> None:
    """After its end a function is the one that it was before, and no tool of the interpreter is held."""
    code = f"""
        import fares
        before = fares.Fares.quote.__code__
        ask({{"line": {LINES["total = base * passengers"]}}})
        fares.Fares().quote(1)
        requested.end()
        tools = [sys.monitoring.get_tool(number) for number in range(6)] if sys.version_info >= (3, 12) else []
        from importlib.machinery import SourceFileLoader
        print(json.dumps([fares.Fares.quote.__code__ is before, any(tools), "get_code" in vars(SourceFileLoader), seen(lambda: fares.Fares().quote(1))]))
    """
    assert ran(python, tmp_path, code) == [True, False, False, []]


@every_version
def test_several_on_one_line_and_beside_others(python: str, tmp_path: Path) -> None:
    """Several stand on one line; one that is added later is seen, though other lines of its function were switched off meanwhile."""
    first, second = LINES["total = base * passengers"], LINES["total += extra"]
    code = f"""
        import fares
        one = {{"id": 1, "line": {first}, "message": "one"}}
        two = {{"id": 2, "line": {first}, "message": "two"}}
        three = {{"id": 3, "line": {second}, "condition": "extra == 1", "message": "three"}}
        found = []
        for orders in ([one], [one, two], [one, two, three], [three], [one, three]):
            ask(*orders)
            found.append(seen(lambda: fares.Fares().quote(1)))
        print(json.dumps(found))
    """
    assert ran(python, tmp_path, code) == [
        ["one"],
        ["one", "two"],
        ["one", "two", "three"],
        ["three"],
        ["one", "three"],
    ]


@every_version
def test_a_debugger_and_coverage_beside(python: str, tmp_path: Path) -> None:
    """What traces lines by itself goes on, and sees the same lines with a tracepoint as without."""
    code = f"""
        import fares
        lines = []
        def trace(frame, event, arg):
            if frame.f_code.co_filename.endswith("fares.py") and event == "line": lines.append(frame.f_lineno)
            return trace
        def traced():
            lines.clear()
            sys.settrace(trace)
            try: fares.Fares().quote(2)
            finally: sys.settrace(None)
            return list(lines)
        plain = traced()
        ask({{"line": {LINES["total += extra"]}}})
        reports.clear()
        with_one = traced()
        count = len(reports)
        ask()
        print(json.dumps([plain, with_one, count, traced()]))
    """
    plain, with_one, count, after = ran(python, tmp_path, code)
    assert plain == with_one == after and count == 2


@and_the_newest
def test_beside_tools_that_use_the_same_events(python: str, tmp_path: Path) -> None:
    """Coverage by `sys.monitoring` counts what it counts without; where other tools have all places, it is said."""
    code = f"""
        import fares
        if sys.version_info < (3, 12):
            print(json.dumps(None)); raise SystemExit
        monitoring, lines = sys.monitoring, []
        monitoring.use_tool_id(monitoring.COVERAGE_ID, "coverage of the test")
        monitoring.register_callback(monitoring.COVERAGE_ID, monitoring.events.LINE, lambda code, line: lines.append(line))
        monitoring.set_local_events(monitoring.COVERAGE_ID, fares.Fares.quote.__code__, monitoring.events.LINE)
        def counted():
            lines.clear(); fares.Fares().quote(2); return list(lines)
        found = [counted()]
        ask({{"line": {LINES["total += extra"]}}})
        reports.clear()
        found += [counted(), len(reports)]
        ask()
        found.append(counted())
        for place in (3, 4): monitoring.use_tool_id(place, "somebody else")
        ask({{"line": {LINES["total += extra"]}}})
        print(json.dumps([*found, states(), seen(lambda: fares.Fares().quote(2))]))
    """
    found = ran(python, tmp_path, code)
    if found is not None:
        plain, with_one, count, after, states, nothing = found
        assert plain == with_one == after and count == 2 and nothing == []
        assert states[0][0] == "not set" and "other tools" in states[0][1]
