"""The fingerprint: what makes two failures one issue, and what it says of that."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.frames import ChainLink, Frame
from obitus.core.grouping import first_recipe
from obitus.core.grouping.groups import Groups
from obitus.core.grouping.likeness import compare, keys_of
from obitus.core.grouping.messages import likeness, template
from obitus.core.grouping.missing_values import is_produced, missing
from obitus.core.grouping.names import plain_function, plain_room, plain_type
from obitus.core.grouping.recipe import as_text, earlier_texts, fingerprint, from_text, plain_code

NAMES = st.text("abcdef_", min_size=1, max_size=6)
CODE = st.sampled_from(
    ["", "return fares[kind]", "raise FareUnknown(kind)", "raise ValueError('no such pier')", "go()"]
)
FRAMES = st.builds(Frame, function=NAMES, module=NAMES, file=NAMES, line=st.integers(1, 999), own=st.booleans(), code=CODE, parameters=st.lists(NAMES, max_size=3).map(tuple), nth_alike=st.integers(0, 2))  # fmt: skip
LINKS = st.builds(
    ChainLink,
    type=st.sampled_from(["ValueError", "KeyError", "skerry.FareUnknown", "Said", "RecursionError"]),
    message=st.text(max_size=30),
    frames=st.lists(FRAMES, max_size=8),
    relation=st.sampled_from([None, "cause", "context", "member"]),
)
CHAINS = st.lists(LINKS, min_size=1, max_size=4)


def stack(*frames: Frame, kind: str = "ValueError", message: str = "") -> list[ChainLink]:
    return [ChainLink(kind, message, list(frames))]


def own(function: str, code: str = "", line: int = 1, module: str = "fares") -> Frame:
    return Frame(function, module, f"/srv/{module}.py", line, own=True, code=code)


def library(function: str, code: str = "", module: str = "tides.levels") -> Frame:
    return Frame(function, module, f"/srv/venv/lib/python3.11/site-packages/{module}.py", 9, own=False, code=code)


def same(one: list[ChainLink], other: list[ChainLink]) -> bool:
    groups = Groups()
    return groups.add(one)[0] == groups.add(other)[0]


@given(CHAINS)
def test_never_raises_and_every_part_says_why(chain: list[ChainLink]) -> None:
    """Whatever a chain holds, there is a fingerprint, and each part of it has its reason."""
    decided = fingerprint(chain)
    assert decided.parts and all(part.reason for part in decided.parts)
    assert decided.text == fingerprint(list(chain)).text
    assert from_text(as_text(decided.traits)) == decided.traits


@given(CHAINS, CHAINS)
def test_comparing_is_symmetric(one: list[ChainLink], other: list[ChainLink]) -> None:
    """Two fingerprints are as alike one way round as the other; each is sure to be like itself or not compared."""
    mine, others = fingerprint(one).traits, fingerprint(other).traits
    assert compare(mine, others) == compare(others, mine)
    if compare(mine, others).kind == "same":
        assert set(keys_of(mine)) & set(keys_of(others)), "what is the same must be found by a key"


@given(st.lists(CHAINS, min_size=2, max_size=12))
def test_the_same_order_gives_the_same_groups(chains: list[list[ChainLink]]) -> None:
    """Nothing but the failures themselves and their order decides."""
    first, second = Groups(), Groups()
    assert [first.add(chain)[0] for chain in chains] == [second.add(chain)[0] for chain in chains]


def test_the_way_there_does_not_count() -> None:
    """One fault reached along many paths, by other frameworks, is one issue."""
    at = own("quote", "return FARES[kind]")
    assert same(stack(own("web", module="app"), library("serve"), at), stack(own("nightly", module="jobs"), at))


def test_lines_drift() -> None:
    """An edit above the fault leaves the issue whole, with its code known or not."""
    for code in ("return FARES[kind]", ""):
        before, after = own("quote", code, 12), own("quote", code, 40)
        assert same(stack(own("main", "", 90), before), stack(own("main", "", 118), after))


def test_two_faults_in_one_function() -> None:
    """Another line of code in the same function is another fault; so is another sentence where no code is known."""
    assert not same(stack(own("quote", "return FARES[kind]")), stack(own("quote", "return ZONES[pier]")))
    assert not same(
        stack(own("quote", "", 12), message="no fare for 3 adults"),
        stack(own("quote", "", 40), message="pier 7 is shut"),
    )


def test_no_code_and_no_words_in_one_build() -> None:
    """Where a frame further down in the file stands still, another line is another place; else it has moved."""
    one = stack(own("berth", "", 12), kind="NullPointerException")
    still = [Frame("main", "fares", "", 90)]
    moved = [Frame("main", "fares", "", 99)]
    at = own("berth", "", 20)
    first = [replace(one[0], frames=[*still, own("berth", "", 12)])]
    assert not same(first, [replace(one[0], frames=[*still, at])])
    assert same(first, [replace(one[0], frames=[*moved, at])])


def test_values_in_messages_do_not_count() -> None:
    """Ids, numbers, quoted values, paths, dates and hosts are values; the sentence is what stays."""
    one = template(
        "passenger p-102 at 10.0.0.7:8080 on 2026-11-25T10:00:01Z lost '/srv/x y' for https://a.example/b?c=1"
    )
    other = template("passenger p-9 at 10.1.2.3:80 on 2025-01-01T00:00:00Z lost '/tmp/z' for https://q.example/")
    assert one == other == "passenger # at # on # lost # for #"
    assert template("Cannot read properties of undefined (reading 'fare')").endswith("(reading 'fare')")
    assert template("can't open 'a' or 'b'") == "can't open # or #"


def test_a_helper_that_raises_for_many_reasons() -> None:
    """Two faults behind one helper are two; one of them is one, whatever its values."""

    def refused(caller: str, message: str) -> list[ChainLink]:
        calls = [
            own(caller, f"require(height, '{caller}')"),
            own("require", "refuse(reason)"),
            own("refuse", "raise Refused(reason)"),
        ]
        return [ChainLink("Refused", message, calls)]

    assert same(refused("board", "no more than 3 m, not 4"), refused("board", "no more than 3 m, not 12"))
    assert not same(refused("board", "no more than 3 m, not 4"), refused("weigh", "no more than 3 t, not 4"))
    assert not same(refused("board", "no more than 3 m, not 4"), refused("board", "the pier is shut today"))


def test_misuse_of_a_library_is_its_callers() -> None:
    """A library that raises on purpose was called wrong: each caller is a fault. One that crashed is one fault."""
    raising = library("parse", "raise ValueError('no time')")
    assert not same(stack(own("posted", "parse(a)"), raising), stack(own("tide", "parse(b)"), raising))
    crash = [library("read", "self.step()"), library("step", "return self.levels[7]")]
    assert same(
        stack(own("posted", "read(a)"), *crash, kind="KeyError"), stack(own("tide", "read(b)"), *crash, kind="KeyError")
    )


def test_what_wraps_a_fault_does_not_count() -> None:
    """The root cause counts, not who wrapped it; a crash inside a handler is a fault of its own."""
    root = ChainLink("KeyError", "'lorry'", [own("board", "quote()"), own("quote", "return FARES[kind]")], "cause")
    wrapped = [ChainLink("BoardingFailed", "7", [own("web", "raise BoardingFailed(7) from error")]), root]
    assert same(wrapped, [ChainLink("JobFailed", "", [own("job", "raise JobFailed from error")]), root])
    assert same(wrapped, [replace(root, relation=None)])
    handling = ChainLink("AttributeError", "no x", [own("board", "log.eror(7)")])
    context = replace(root, relation="context")
    assert not same([handling, context], [replace(root, relation=None)])
    raised = ChainLink("BoardingFailed", "7", [own("board", "raise BoardingFailed(7)")])
    assert same([raised, context], [replace(root, relation=None)])


def test_recursion_and_groups() -> None:
    """However deep an endless recursion went, it is one issue; a group is known by its first member."""

    def deep(times: int, extra: str) -> list[ChainLink]:
        return [ChainLink("RecursionError", "", [own("main"), *[own("up"), own("down")] * times, own(extra)])]

    assert same(deep(300, "len"), deep(400, "up"))
    member = ChainLink("KeyError", "'a'", [own("quote", "return FARES[kind]")], "member")
    assert same(
        [ChainLink("ExceptionGroup", "2"), member, replace(member, type="OSError")], [replace(member, relation=None)]
    )


def test_moved_code() -> None:
    """A function in another file, and a part taken out into a helper, stay the same issue."""
    line = "return tide_tables[hour % 24].level"
    assert same(stack(own("board"), own("level", line)), stack(own("board"), own("level", line, module="tides")))
    assert same(stack(own("board", line)), stack(own("board", "return _level(hour)"), own("_level", line)))


@pytest.mark.parametrize(
    ("given_name", "wanted"),
    [
        ("lambda$open$3", "open"), ("quote.<locals>.<listcomp>", "quote"), ("Object.open", "open"), ("new Gate", "Gate"),
        ("async berth", "berth"), ("open$default", "open"), ("block (2 levels) in berth", "berth"), ("main.Open.func1", "main.Open"),
        ("{closure}", "<anonymous>"), ("_callee2$", "<anonymous>"), ("gate::open::{{closure}}", "gate::open"),
    ],
)  # fmt: skip
def test_names_as_people_say_them(given_name: str, wanted: str) -> None:
    """What compilers and loaders add to a name is taken away."""
    assert plain_function(given_name) == wanted


def test_rooms_and_types() -> None:
    """Build hashes, versions and the folders of a host are no part of a place."""
    assert (
        plain_room("", "/home/odd/app/dist/gate-BxK9s2d1.js")
        == plain_room("", "/srv/dist/gate-a81bc81b.js")
        == "dist/gate.js"
    )
    assert plain_room("org.skerry.Gate$$EnhancerBySpringCGLIB$$a1b2c3", "") == "org.skerry.Gate"
    assert plain_room("", "/srv/releases/20261125/gate.py") == "gate.py"
    assert (
        plain_type("skerry::GangwayUp")
        == plain_type("Skerry\\GangwayUp")
        == plain_type("org.Gate$GangwayUp")
        == "GangwayUp"
    )
    assert plain_code('return  fares["lorry"]  # dear') == "returnfares['lorry']"


def test_words_alike() -> None:
    """Likeness counts the words in the same order, not the values."""
    assert likeness("no berth #", "no berth #") == 1.0
    assert 0 < likeness("no such vessel Maren", "no such vessel Tern Sound") < 1
    assert likeness("a b", "") == 0.0


def test_the_first_recipe_stays_as_it_was() -> None:
    """Fingerprints of version 1 can be computed again, so that its issues are found again."""
    two = first_recipe.fingerprint(stack(own("a"), own("b")))
    assert two == "1-063a7200d5fba249f29c65db52ee301f"
    assert first_recipe.fingerprint(stack(own("a"))) != first_recipe.fingerprint(stack(own("b")))


def test_the_second_recipe_stays_as_it_was() -> None:
    """Fingerprints of version 2 can be computed again too: where the rules of version 3 differ, those of version 2 still hold."""
    started = stack(own("main", "serve()"), library("serve", "raise TideError('no level')"), library("level", "x = y['pier']"), kind="KeyError", message="'pier'")  # fmt: skip
    named = stack(
        own("board", "field(row, 'pier')"), own("field", "return row[name]"), kind="KeyError", message="'pier'"
    )
    nothing = stack(own("board", "draw(None)"), own("draw", "return berth.pier"), kind="AttributeError", message="'NoneType' object has no attribute 'pier'")  # fmt: skip
    assert [earlier_texts(chain)[0] for chain in (started, named, nothing)] == [
        "2-e51b4277bc3ad1edc3a6ae1ac7f25a0e",
        "2-c8f43bc7b756cab80d4f3f6012ae35e1",
        "2-b59ce050dad190d9c1d01bf2d89faa25",
    ]
    assert all(earlier_texts(chain)[1] == first_recipe.fingerprint(chain) for chain in (started, named, nothing))


def test_a_frame_weighs_the_same_whatever_stands_above_it() -> None:
    """The own frame next to the library counts also where it is called ``main``, and a frame more above changes nothing."""
    refused = library("level", "raise TideError('no such gauge')")

    def started(module: str, *above: Frame) -> list[ChainLink]:
        return stack(*above, own("main", "levels.level(gauge)", module=module), refused, kind="tides.TideError")

    assert fingerprint(started("gatekeeper")).text != fingerprint(started("pierboard")).text
    assert fingerprint(started("gatekeeper")).text == fingerprint(started("gatekeeper", own("night", "main()"))).text
    assert not fingerprint(started("gatekeeper")).fault.in_library


@given(st.text(min_size=1, max_size=20), st.text(min_size=1, max_size=20))
def test_a_key_that_the_line_does_not_spell_out_is_data(one: str, other: str) -> None:
    """Whatever was looked for, one line with one caller is one fault; what that caller's line spells out tells it from others."""

    def failing(key: str, caller: str) -> list[ChainLink]:
        frames = (own("board", caller), own("field", "value = row[name]"))
        return stack(*frames, kind="KeyError", message=repr(key))

    assert fingerprint(failing(one, "field(row, name)")).text == fingerprint(failing(other, "field(row, name)")).text
    assert (
        fingerprint(failing(one, "field(row, 'pier')")).text == fingerprint(failing(other, "field(row, 'pier')")).text
    )
    assert not same(failing("pier", "field(row, 'pier')"), failing("berth", "field(row, 'berth')"))


NOTHING = "'NoneType' object has no attribute 'pier'"


def test_a_helper_that_is_handed_nothing_fails_for_its_callers() -> None:
    """Each caller that names the helper and hands it something is a fault of its own; who only runs a task is not."""

    def failing(caller: str, code: str) -> list[ChainLink]:
        return stack(own(caller, code), own("pier_of", "return berth.pier"), kind="AttributeError", message=NOTHING)

    board, land = failing("board", "pier_of(found)"), failing("land", "pier_of(last)")
    assert not same(board, land)
    counted = {part.kind: part for part in fingerprint(board).parts if part.counted}
    assert counted["caller"].value == "fares.board" and "handed nothing" in counted["function"].reason
    assert same(failing("night", "return task(draw)"), failing("day", "task(draw)"))
    own_slip = [own("board", "pier_of(found)"), own("pier_of", "return berth.pierr")]
    assert fingerprint(stack(*own_slip, kind="AttributeError", message="'Berth' object has no attribute 'pierr'")).fault.helper == 0  # fmt: skip


def at(function: str, code: str, *parameters: str, module: str = "fares") -> Frame:
    return replace(own(function, code, module=module), parameters=parameters)


def handed_nothing(*frames: Frame) -> list[ChainLink]:
    return stack(*frames, kind="AttributeError", message=NOTHING)


def test_a_missing_value_is_followed_to_where_it_was_handed_over_first() -> None:
    """Through functions that hand on what they got; each caller that handed nothing to the first of them is a fault of its own."""
    inner = at("draw", "pier_of(place)", "place"), at("pier_of", "return berth.pier", "berth")
    board = handed_nothing(at("main", "board()"), at("board", "draw(None)", "sailing"), *inner)
    land = handed_nothing(at("main", "land()"), at("land", "draw(last)", "sailing"), *inner)
    night = handed_nothing(at("night", "board()"), at("board", "draw(None)", "sailing"), *inner)
    assert not same(board, land) and same(board, night)
    decided = fingerprint(board)
    assert decided.text.startswith("5-") and decided.fault.helper == 2
    assert [(part.value, part.reason) for part in decided.parts if part.kind == "caller"] == [
        ("fares.draw", "it only handed that on"),
        ("fares.board", "it handed over what had no value"),
    ]
    assert "1 caller only handed it on" in decided.fault.why_site
    # A function that is not called by its name, or with more than the line shows, ends the way.
    assert fingerprint(handed_nothing(at("board", "go(None)"), *inner)).fault.helper == 1
    assert fingerprint(handed_nothing(at("board", "draw(*places)"), *inner)).fault.helper == 2


def test_a_decorator_between_a_function_and_its_caller_is_passed_through() -> None:
    """A wrapper that passes all arguments on hides neither who called nor what was handed over."""
    assert_passed_through("return function(*args, **options)")
    assert_passed_through("return self.made(function)(*args, **options)")


def assert_passed_through(code: str) -> None:
    wrapper = at("retried.<locals>.wrapper", code, module="retries")
    inner = at("pier_of", "return berth.pier", "berth")
    board = handed_nothing(at("board", "return pier_of(None)", "sailing"), wrapper, inner)
    land = handed_nothing(at("land", "return pier_of(last)", "sailing"), wrapper, inner)
    assert not same(board, land)
    assert fingerprint(board).fault.helper == 2
    assert fingerprint(handed_nothing(at("board", "return go(None)"), wrapper, inner)).fault.helper == 0
    # It may be on one way and not on another.
    twice = handed_nothing(at("board", "return pier_of(None)", "sailing"), wrapper, wrapper, inner)
    without = handed_nothing(at("board", "return pier_of(None)", "sailing"), inner)
    assert fingerprint(board).text == fingerprint(twice).text and same(board, without)


def test_what_a_function_looked_up_itself_is_its_own_fault() -> None:
    """A local value that is missing was not handed over: whoever calls, it is one fault, and an earlier version's issues go on."""

    def failing(caller: str) -> list[ChainLink]:
        return handed_nothing(at(caller, f"pier_of({caller}_code)"), at("pier_of", "return berth.pier", "code"))

    assert same(failing("board"), failing("land")) and fingerprint(failing("board")).fault.helper == 0
    without = [replace(frame, parameters=()) for frame in failing("board")[0].frames]
    before = fingerprint(handed_nothing(*without))
    assert before.fault.helper == 1 and before.text in earlier_texts(failing("board"))
    assert fingerprint(failing("board")).text not in earlier_texts(failing("board"))


def test_a_name_that_a_line_further_out_spells_out() -> None:
    """A key that functions hand on is a fault of the line that spells it out; one that came from outside is data."""

    def failing(outer: str) -> list[ChainLink]:
        inner = (
            at("field_of", "return field(row, name)", "row", "name"),
            at("field", "value = row[name]", "row", "name"),
        )
        return stack(at("board", outer), *inner, kind="KeyError", message="'pier'")

    pier, berth = failing("field_of(row, 'pier')"), failing("field_of(row, 'berth')")
    assert not same(pier, berth) and fingerprint(pier).fault.helper == 2
    assert same(failing("field_of(row, asked.name)"), failing("field_of(row, sent.name)"))
    # Whatever kind of value it is.
    for one, other in (("None", "3"), ("-1", "True"), ("b'p'", "'a pier'")):
        assert not same(failing(f"field_of(row, {one})"), failing(f"field_of(row, {other})"))
    assert fingerprint(failing("field_of(row, f'{pier}')")).fault.helper == 0


def test_what_validates_refuses_what_its_callers_hand_over() -> None:
    """Each caller of a function that validates is a fault of its own; where that one fails by itself, it is one."""

    def failing(caller: str, code: str, kind: str = "ValueError", *between: Frame) -> list[ChainLink]:
        return stack(
            own(caller, "row = land(found)"), *between, own("validate_berth", code), kind=kind, message="too shallow"
        )

    refusal = "raise ValueError("
    assert not same(failing("board", refusal), failing("land", refusal))
    assert same(
        failing("board", "return berth.depht", "AttributeError"),
        failing("land", "return berth.depht", "AttributeError"),
    )
    deep = own("Berth.verify", "validate_berth(self)")
    decided = fingerprint(failing("board", refusal, "ValueError", deep))
    assert decided.fault.helper == 2 and "validates" in decided.fault.why_site
    assert (
        fingerprint(stack(own("validate_berth", refusal), kind="ValueError", message="too shallow")).fault.helper == 0
    )
    before = earlier_texts(failing("board", refusal))[0]
    assert before == earlier_texts(failing("land", refusal))[0]


def test_nothing_as_a_key_was_handed_over() -> None:
    """Nothing is no key that somebody chose: whoever handed it over is at fault. Any other key is data."""

    def failing(caller: str, key: str) -> list[ChainLink]:
        inner = at("fare_of", "return fares[pier]", "pier")
        return stack(at(caller, f"fare_of({caller}.pier)"), inner, kind="KeyError", message=key)

    assert not same(failing("board", "None"), failing("land", "None"))
    assert same(failing("board", "'north'"), failing("land", "'None'"))


def test_who_called_a_function_that_raised_another_in_its_place() -> None:
    """A cause shows no frames above the function that caught it: those of the exceptions that wrap it belong to it, too."""

    def failing(caller: str, *between: Frame) -> list[ChainLink]:
        outer = at("main", "go()"), at(caller, f"pier_of({caller}.berth)")
        catching = at("pier_of", "return piers[berth.pier]", "berth")
        raising = replace(catching, code="raise LookupError('no pier') from None")
        cause = ChainLink("AttributeError", NOTHING, (catching, *between), "cause")
        wrapped = ChainLink("LookupError", "no pier", (at("pier_for", "pier_of(berth)", "berth"), raising), "cause")
        again = ChainLink("RuntimeError", "not now", (*outer, at("pier_for", "raise RuntimeError('not now')", "berth")))
        direct = ChainLink("LookupError", "no pier", (*outer, raising))
        return [again, wrapped, cause] if caller == "twice" else [direct, cause]

    board, land = failing("board"), failing("land")
    assert not same(board, land) and fingerprint(board).fault.helper == 1
    assert [frame.function for frame in fingerprint(failing("twice")).fault.callers] == ["pier_for", "twice", "main"]
    # Earlier versions saw no callers: their issues go on.
    assert earlier_texts(board)[0] == earlier_texts(land)[0] != fingerprint(board).text
    # What is in the middle of a chain by itself is as before.
    own_slip = at("depth", "return berth.depht")
    assert same(failing("board", own_slip), failing("land", own_slip))


def test_equal_lines_of_one_function_are_several_callers() -> None:
    """Where a function has the same call twice, each is a fault of its own; where it has it once, or that is not known, nothing changes."""

    def failing(nth: int, line: int) -> list[ChainLink]:
        caller = replace(at("board", "pier_of(None)"), nth_alike=nth, line=line)
        return handed_nothing(caller, at("pier_of", "return berth.pier", "berth"))

    first, second, alone = failing(1, 4), failing(2, 7), failing(0, 4)
    assert not same(first, second) and same(first, failing(1, 5)) and same(second, failing(2, 9))
    assert fingerprint(alone).text in earlier_texts(first) and fingerprint(alone).text in earlier_texts(second)
    reasons = [part.reason for part in fingerprint(second).parts if part.kind == "caller"]
    assert reasons == ["it handed over what had no value, on the 2nd of several equal lines"]
    # Equal lines that spell out a key hand over the same; what fails by itself on one of several equal lines is one fault.
    keys = [stack(replace(at("board", "field(row, 'pier')"), nth_alike=nth), at("field", "return row[name]", "row", "name"), kind="KeyError", message="'pier'") for nth in (1, 2)]  # fmt: skip
    assert fingerprint(keys[0]).text == fingerprint(keys[1]).text and fingerprint(keys[0]).fault.helper == 1
    slip = replace(own("board", "return berth.pierr"), nth_alike=2)
    plain = replace(slip, nth_alike=0)
    one, other = (
        stack(frame, kind="AttributeError", message="'Berth' object has no attribute 'pierr'")
        for frame in (slip, plain)
    )
    assert fingerprint(one).text == fingerprint(other).text


@pytest.mark.parametrize(
    ("message", "code", "depth"),
    [
        ("unsupported operand type(s) for +: 'NoneType' and 'int'", "return berth + 1", 1),
        ("unsupported operand type(s) for +: 'NoneType' and 'int'", "return found + 1", 0),
        ("object of type 'NoneType' has no len()", "if len(berth) > 3:", 1),
        ("'NoneType' object is not callable", "return berth(3)", 1),
        ("'NoneType' object is not callable", "return moor(berth)", 0),
        ("'NoneType' object is not subscriptable", "return berth[0]", 1),
        ("type object 'NoneType' has no attribute '_fields'", "return berth.__class__._fields", 1),
        ("type object 'NoneType' has no attribute '_fields'", "return type(berth)._fields", 1),
        ("type object 'NoneType' has no attribute '_fields'", "return type(found)._fields", 0),
        ("unsupported operand type(s) for +: 'str' and 'int'", "return berth + 1", 0),
        ("object.__new__(X): X is not a type object (NoneType)", "return object.__new__(berth)", 1),
        ("object.__new__(X): X is not a type object (NoneType)", "return object.__new__(kinds[cls])", 0),
    ],
)
def test_which_names_had_no_value(message: str, code: str, depth: int) -> None:
    """The names on the failing line decide whether a caller handed nothing over."""
    failing = stack(at("board", "draw(None)"), at("draw", code, "berth"), kind="TypeError", message=message)
    assert fingerprint(failing).fault.helper == depth


def test_a_comprehension_has_the_parameters_of_its_function() -> None:
    """What fails inside of a comprehension got its value from the caller of the function around it."""
    inner = at("pier_of", "return [b.pier for b in berths if berth.pier]", "berth"), at("pier_of.<locals>.<listcomp>", "return [b for b in berths if berth.pier]")  # fmt: skip
    assert fingerprint(handed_nothing(at("board", "pier_of(None)"), *inner)).fault.helper == 1


def test_functions_of_one_name_in_two_places_are_not_one_that_moved() -> None:
    """Two classes have methods of one name, and two functions inner ones: the same line in both is two faults. What moved
    to another module is one.
    """
    inner = at("Sailing.show", "self.pier = berth.pier", "self", "berth")

    def failing(function: str, module: str = "fares") -> list[ChainLink]:
        return handed_nothing(at(function, "self.show(None)", "self", module=module), inner)

    assert not same(failing("Board.draw"), failing("Land.draw"))
    assert not same(failing("depth.<locals>.set"), failing("tide.<locals>.set"))
    assert same(failing("Board.draw"), failing("Board.draw", "boards"))
    assert not same(failing("Board.draw"), failing("Land.draw", "boards"))


def test_constructors_of_two_classes_are_not_one_that_moved() -> None:
    """All classes have a constructor: the same call in two of them is two faults."""
    inner = at("Message.__init__", "self.pier = berth.pier", "self", "berth")
    board, land = (
        handed_nothing(at(f"{kind}.__init__", "Message.__init__(self, None)", "self"), inner)
        for kind in ("Board", "Land")
    )
    assert not same(board, land)

    def misspelt(function: str) -> list[ChainLink]:
        failing = own(function, "Messaage.__init__(self, berth)")
        return stack(own("report", "make(kind)"), failing, kind="NameError", message="name 'Messaage' is not defined")

    assert not same(misspelt("Board.__init__"), misspelt("Land.__init__"))


def test_one_function_that_gives_nothing_is_one_fault() -> None:
    """Where the failing lines show what had no value, they are together, whatever each did with it."""

    def failing(function: str, code: str, message: str = NOTHING, kind: str = "AttributeError") -> list[ChainLink]:
        return stack(own(function, code), kind=kind, message=message)

    board = failing("board", "return harbour.berth_of(vessel).pier")
    assert same(board, failing("land", "print(self.harbour.berth_of(last).pier)"))
    assert same(board, failing("list", "berth_of(v)[0]", "'NoneType' object is not subscriptable", "TypeError"))
    assert not same(board, failing("land", "print(self.harbour.quay_of(last).pier)"))
    assert not same(failing("a", "return berth.pier"), failing("b", "x = berth.pier"))
    # A search that finds nothing says so by giving nothing: the line that did not look is at fault.
    assert not same(failing("a", "found = re.match(x, y).pier"), failing("b", "z = re.match(a, b).pier"))
    _, _, choice = (groups := Groups()).add(board) and groups.add(failing("land", "print(harbour.berth_of(last).pier)"))
    assert choice is not None and choice.joins is not None and "berth_of() had no value" in choice.joins.verdict.reason


@pytest.mark.parametrize(
    ("message", "code", "found"),
    [
        (NOTHING, "return harbour.berth_of(vessel).pier", "berth_of()"),
        (NOTHING, "return row.berths[0].pier", "berths[]"),
        (NOTHING, "x.pier + y.pier", ""),
        (NOTHING, "a.berth.pier", ".berth"),
        ("'NoneType' object is not subscriptable", "return self.table.columns[0]", ".columns"),
        ("'NoneType' object is not iterable", "for berth in self.berths():", "berths()"),
        ("cannot unpack non-iterable NoneType object", "low, high = tide.levels()", "levels()"),
        ("Cannot read properties of undefined (reading 'pier')", "return (await berth(v)).pier", ""),
        ("Cannot read properties of undefined (reading 'pier')", "return ferry.berth.pier;", ".berth"),
        ('Cannot invoke "Pier.name()" because the return value of "skerry.Berth.pier()" is null', "", "pier()"),
        ('Cannot read field "berth" because "vessel.pass" is null', "", ".pass"),
        ("ferry.berth is undefined", "", ".berth"),
        ("row 4 has an empty weight", "raise ValueError(text)", ""),
    ],
)
def test_what_had_no_value_is_read_from_the_line(message: str, code: str, found: str) -> None:
    """A call, an attribute, a name, an element; nothing where several places may be meant."""
    assert missing(message, code) == found
    assert not is_produced("berth") and is_produced("berth_of()") and not is_produced("get()")


@given(st.text(max_size=60), st.text("ab.()[]'\" ", max_size=60))
def test_any_line_can_be_asked(message: str, code: str) -> None:
    """Nothing makes it fail."""
    for said in (message, NOTHING, "'NoneType' object is not subscriptable", "'NoneType' object is not iterable"):
        assert isinstance(missing(said, code), str)


def test_what_a_library_calls_back_and_hands_on_is_passed_through() -> None:
    """Where an override only calls what it overrides, who entered the library counts; what fails in it by itself does not."""
    inside = library("encode", "chunks = self.iterencode(o)", module="notes.encoder")
    over = own("default", "return super().default(value)", module="notes")
    raised = library("default", "raise NotesError('no form for it')", module="notes.encoder")

    def written(function: str) -> list[ChainLink]:
        return stack(own(function, "dumps(passes)"), inside, over, raised, kind="notes.NotesError")

    assert fingerprint(written("board")).traits.spot == "fares.board"
    assert not same(written("board"), written("land"))
    language = [Frame(name, "json.encoder", "/usr/lib/python3.11/json/encoder.py", 9, own=False) for name in ("iterencode", "default")]  # fmt: skip
    of_the_language = [own("board", "json.dumps(passes)"), language[0], over, language[1]]
    assert fingerprint(stack(*of_the_language, kind="TypeError")).traits.spot == "fares.board"
    itself = stack(own("board", "dumps(passes)"), inside, own("default", "return value.text", module="notes"), kind="AttributeError")  # fmt: skip
    assert fingerprint(itself).traits.spot == "notes.default"
    handler = own("fare", "return abort(404)", module="sailings")
    served = stack(own("main", "app.run()"), library("run", "handler(request)"), handler, library("abort", "raise Refused()"), kind="web.Refused")  # fmt: skip
    assert fingerprint(served).traits.spot == "sailings.fare"
