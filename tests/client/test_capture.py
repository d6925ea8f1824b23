"""What is captured of an exception: chain, frames, source, locals; bounded, and without running the app's code."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from types import SimpleNamespace
from typing import Any

import pytest

import obitus
from obitus.client.capture import MOST_FRAMES
from obitus.client.values import MOST_CHARS, show
from obitus.core.redaction import Redactor
from tests.client.conftest import Reported

SECRET = "hunter2-3f9a77"


def raise_it(depth: int = 0) -> None:
    password = SECRET  # noqa: F841
    vehicle = {"height_m": 4.1, "token": SECRET}  # noqa: F841
    if depth:
        raise_it(depth - 1)
    raise ValueError("no room")


def record_of(function: Any, *args: Any) -> None:
    try:
        function(*args)
    except BaseException as error:
        obitus.record(error)


def test_a_handled_exception(reported: Reported) -> None:
    """Type, message, place, source lines and locals of a recorded exception arrive; secrets do not."""
    record_of(raise_it)
    report = reported.one()
    assert report["handled"] is True and report["release"] == "2.9.0" and report["captured_by"] == "record"
    link = report["exceptions"][0]
    assert (link["type"], link["message"]) == ("ValueError", "no room")
    frame = link["frames"][-1]
    assert frame["function"] == "raise_it" and frame["module"] == __name__ and frame["own"] is True
    assert frame["source"]["line"].strip() == 'raise ValueError("no room")' and frame["source"]["before"]
    assert frame["locals"]["password"] == "[hidden: password]" and "4.1" in frame["locals"]["vehicle"]
    assert SECRET not in json.dumps(report)
    assert report["attributes"]["process.runtime.name"] == "cpython"


def test_parameters_of_own_functions(reported: Reported) -> None:
    """Frames of own code name the parameters of their functions, whatever kind they are of; comprehensions have none."""

    def land(self: Any, berth: Any, /, pier: int = 3, *rest: Any, tide: Any = None, **more: Any) -> Any:
        return [berth.depth + pier for _ in range(1)]

    record_of(land, None, None)
    frames = {frame["function"].rpartition(".")[2]: frame for frame in reported.one()["exceptions"][0]["frames"]}
    assert frames["record_of"]["parameters"] == ["function"]
    assert frames["land"]["parameters"] == ["self", "berth", "pier", "tide"]
    assert "parameters" not in frames.get("<listcomp>", {})


def test_equal_lines_of_a_function(reported: Reported) -> None:
    """Of equal lines a frame says which one it is; a line that the function has once says nothing, whatever others have."""

    def pier_of(berth: Any) -> Any:
        return berth.pier

    def land(berth: Any, then: Any) -> None:
        pier_of(berth)
        berth = then
        pier_of(berth)
        pier_of(None)

    def nth(*given: Any) -> list[int]:
        record_of(land, *given)
        latest = reported.all("failure")[-1]["exceptions"][0]["frames"]
        frames = {frame["function"].rpartition(".")[2]: frame for frame in latest}
        return [frames[name]["source"].get("nth_alike", 0) for name in ("land", "pier_of")]

    moored = SimpleNamespace(pier=3)
    assert nth(None, moored) == [1, 0]
    assert nth(moored, None) == [2, 0]
    assert nth(moored, moored) == [0, 0]


def test_code_without_a_file_shows_no_lines_of_another(reported: Reported) -> None:
    """What was compiled from a text, in the names of a module, is not shown with the lines of that module's file."""
    names = {"__name__": __name__, "__file__": __file__, "__loader__": __loader__, "__spec__": __spec__}
    exec(compile("\n\n\ndef made(berth):\n    return berth.pier\n", "<made> for the pier", "exec"), names)
    record_of(names["made"], None)
    frame = reported.one()["exceptions"][0]["frames"][-1]
    assert frame["function"] == "made" and frame["line"] == 5 and "source" not in frame


def test_a_chain(reported: Reported) -> None:
    """Causes, contexts and members of groups arrive from the outermost to the root, each with its relation."""

    def chained() -> None:
        try:
            try:
                {}["pier"]
            except KeyError as error:
                raise LookupError("no pier") from error
        except LookupError:
            raise ExceptionGroup("boarding", [ValueError("one"), TypeError("two")])  # noqa: B904

    record_of(chained)
    links = reported.one()["exceptions"]
    assert [(link["type"], link.get("relation")) for link in links] == [
        ("ExceptionGroup", None),
        ("LookupError", "context"),
        ("KeyError", "cause"),
        ("ValueError", "member"),
        ("TypeError", "member"),
    ]


def test_notes_and_own_types(reported: Reported) -> None:
    """Notes travel along; a type of the app is named with its module."""

    class Refused(Exception):
        pass

    def noted() -> None:
        error = Refused("no")
        error.add_note("asked twice")
        raise error

    record_of(noted)
    link = reported.one()["exceptions"][0]
    assert link["notes"] == ["asked twice"] and link["type"].startswith("tests.client.test_capture.")


def test_library_frames_are_told_apart(reported: Reported) -> None:
    """Frames of the standard library are library code; their locals stay out unless they raised."""
    record_of(json.loads, "{")
    frames = reported.one()["exceptions"][0]["frames"]
    assert [frame["own"] for frame in frames] == [True, False, False, False]
    assert "locals" not in frames[1] and "locals" in frames[-1]


def test_a_deep_recursion_is_cut_in_the_middle(reported: Reported) -> None:
    """A stack of nearly a thousand calls keeps both its ends, and says how many are missing."""
    record_of(raise_it, 700)
    link = reported.one()["exceptions"][0]
    assert len(link["frames"]) == MOST_FRAMES and link["frames_left_out"] == 702 - MOST_FRAMES
    assert link["frames"][0]["function"] == "record_of"


def test_the_same_exception_is_reported_once(reported: Reported) -> None:
    """Recorded, then raised further and recorded again, it is one report with one id."""
    ids = []
    try:
        try:
            raise_it()
        except ValueError:
            ids.append(obitus.record())
            raise
    except ValueError as error:
        ids.append(obitus.record(error))
    assert ids[0] == ids[1] == reported.one()["id"]


class Hostile:
    """Everything about it raises, hangs or lies, if it is asked."""

    def __repr__(self) -> str:
        raise SystemExit("repr ran")

    __str__ = __hash__ = __eq__ = __len__ = __iter__ = __bool__ = __repr__  # type: ignore[assignment]

    def __getattribute__(self, name: str) -> Any:
        raise SystemExit(f"{name} was asked for")


class Sneaky(dict):  # type: ignore[type-arg]
    def items(self) -> Any:
        raise SystemExit("items ran")


VALUES: dict[str, Callable[[], Any]] = {
    "hostile": Hostile,
    "hostile dict": lambda: Sneaky(a=1),
    "list of hostile": lambda: [Hostile()] * 5,
    "dict of hostile": lambda: {"a": Hostile()},
    "string": lambda: "x" * 10_000_000,
    "list": lambda: list(range(10_000_000)),
    "dict": lambda: {str(i): i for i in range(100_000)},
    "number": lambda: 10**100_000,
    "bytes": lambda: b"\x00" * 1_000_000,
    "surrogate": lambda: "\ud800 half",
    "slots": lambda: type("Slots", (), {"__slots__": ("a", "b")})(),
    "function": lambda: record_of,
    "class": lambda: Hostile,
    "nan": lambda: float("nan"),
}


@pytest.mark.parametrize("name", VALUES)
def test_showing_a_value_runs_no_code_of_the_app(name: str) -> None:
    """Whatever a local value is, showing it is bounded and calls none of its methods."""
    text = show(VALUES[name](), Redactor())
    assert 0 < len(text) <= MOST_CHARS
    text.encode("utf-8", "surrogatepass")


def test_values_are_shown_with_what_they_hold() -> None:
    """Objects are shown by class and fields, secrets among them hidden, cycles cut."""

    class Vessel:
        def __init__(self) -> None:
            self.name, self.api_key, self.piers = "Tern", SECRET, ["merrow", {"password": SECRET}]
            self.again = self

    text = show(Vessel(), Redactor())
    assert text.startswith("<Vessel name='Tern' api_key=[hidden: key] piers=['merrow', ") and SECRET not in text


def test_hostile_exceptions_are_captured(reported: Reported) -> None:
    """An exception whose text raises, or that has no place for a mark, is reported all the same."""

    class Mute(Exception):
        def __str__(self) -> str:
            raise RuntimeError("no words")

    def raise_mute() -> None:
        local = Hostile()  # noqa: F841
        raise Mute

    record_of(raise_mute)
    assert "no message" in reported.one()["exceptions"][0]["message"]


def test_surrogates_and_nonsense_get_through(reported: Reported) -> None:
    """Text that is no valid Unicode reaches the service, with what cannot be said replaced."""

    def half() -> None:
        raise ValueError("half \ud800 pair \0 nul")

    obitus.mark("half \udfff", value=float("inf"), more={1, 2})
    record_of(half)
    assert "half ? pair" in reported.one()["exceptions"][0]["message"]


def test_threads_and_their_names(reported: Reported) -> None:
    """What a thread dies of is reported as unhandled; the hook that was there before still runs."""
    seen: list[object] = []
    before, threading.excepthook = threading.excepthook, lambda args: seen.append(args.exc_type)
    obitus.watch(url=reported.running.url, key=reported.key, release="2.9.0")
    try:
        thread = threading.Thread(target=raise_it, name="heartbeat")
        thread.start()
        thread.join()
        report = reported.one()
        assert report["handled"] is False and report["attributes"]["thread.name"] == "heartbeat"
        assert seen == [ValueError]
    finally:
        obitus.stop()
        threading.excepthook = before


def test_long_chains_keep_their_root(reported: Reported) -> None:
    """Of forty causes the first and the last ten are shown, with how many are missing between them."""
    error: Exception = ValueError("root cause")
    for place in range(40):
        try:
            raise RuntimeError(f"step {place}") from error
        except RuntimeError as raised:
            error = raised
    obitus.record(error)
    chain = reported.one()["exceptions"]
    assert chain[0]["message"] == "step 39" and chain[-1]["message"] == "root cause"
    assert len(chain) == 20 and chain[9]["links_left_out"] == 21


def test_groups_say_what_is_missing_and_whose_members_are_whose(reported: Reported) -> None:
    """Thirty members: twenty shown, ten counted. A group inside a group: its members point to it."""
    inner = ExceptionGroup("inner", [ValueError("a"), ValueError("b")])
    obitus.record(ExceptionGroup("outer", [inner, KeyError("c")]))
    obitus.record(ExceptionGroup("many", [ValueError(i) for i in range(30)]))
    nested, many = (report["exceptions"] for report in reported.all())
    assert [(link["message"].split(" (")[0], link.get("member_of")) for link in nested] == [
        ("outer", None), ("inner", 0), ("a", 1), ("b", 1), ("'c'", 0),
    ]  # fmt: skip
    assert len(many) == 21 and many[0]["members_left_out"] == 10


def test_hostile_args_and_dictionaries(reported: Reported) -> None:
    """Exceptions whose args or __dict__ raise are reported all the same."""

    class Hostile(Exception):
        @property
        def args(self) -> Any:  # type: ignore[override]
            raise RuntimeError("no args")

    class Dictless(Exception):
        @property
        def __dict__(self) -> Any:  # type: ignore[override]
            raise RuntimeError("no dictionary")

    for kind in (Hostile, Dictless):
        try:
            raise kind("x")
        except Exception as error:
            obitus.record(error)
    assert [report["exceptions"][0]["type"].rpartition(".")[2] for report in reported.all()] == ["Hostile", "Dictless"]


def test_compiled_library_code_is_no_own_code(reported: Reported) -> None:
    """Two faults that call the same compiled function are two issues, at the places that called it."""
    import numpy

    dice = numpy.random.default_rng(1)

    def depth() -> Any:
        return dice.integers(5, 1)

    def berth() -> Any:
        return dice.integers(7, 2)

    for act in (depth, berth):
        try:
            act()
        except ValueError as error:
            obitus.record(error)
    for report in reported.all():
        frames = report["exceptions"][-1]["frames"]
        compiled = [f for f in frames if f["file"].endswith((".pyx", ".pxi"))]
        assert compiled and not any(f["own"] for f in compiled)
        assert frames[-1]["own"] is False and [f["function"] for f in frames if f["own"]][-1].endswith(
            ("depth", "berth")
        )
    assert len(reported.running.issues()) == 2


def test_arrays_show_their_shape(reported: Reported) -> None:
    """Numbers of NumPy as they are, arrays by shape and type."""
    import numpy

    depths, one = numpy.zeros((300, 4)), numpy.float64(2.5)
    try:
        raise ValueError(len(depths), one)
    except ValueError as error:
        obitus.record(error)
    shown = reported.one()["exceptions"][0]["frames"][-1]["locals"]
    assert shown["depths"] == "<ndarray shape=(300, 4) dtype=float64>" and shown["one"] == "2.5"
