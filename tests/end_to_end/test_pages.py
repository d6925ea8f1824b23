"""The client for pages in a real browser: what goes wrong in a page is there with what led to it, and nothing that was typed."""

from __future__ import annotations

import gzip
import json
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect

from tests import kept
from tests.conftest import Running, failure, raised_in, start, until
from tests.end_to_end.browsing import context_in, usable
from tests.end_to_end.conftest import signed_in
from tests.end_to_end.ferry_page import SCRIPT, FerryPage, served


@pytest.fixture
def ferry() -> Iterator[FerryPage]:
    """The page of the ferry line."""
    with served() as found:
        yield found


@pytest.fixture
def key(running: Running, ferry: FerryPage) -> str:
    """Let the page report: a script in its head, and a policy that lets it in and nothing else."""
    running.add_app("pierboard")
    made = running.ask("POST", "/api/apps/pierboard/keys", {"origins": [ferry.url]}).json()
    (tag,) = [step["lines"] for step in made["steps"] if "<script" in step["lines"]]
    ferry.head = tag.replace(running.service.settings.url, running.url).replace(
        "data-watch", 'data-watch data-release="3.1.0"'
    )
    ferry.policy = (
        f"default-src 'none'; script-src 'self' {running.url}; connect-src 'self' {running.url}; style-src 'self'"
    )
    return str(made["key"])


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    """A page that nobody is signed in to."""
    context = context_in(browser)
    opened = context.new_page()
    yield opened
    context.close()


def failures(running: Running, count: int) -> list[dict[str, Any]]:
    """Wait for so many failures, and return all that came."""
    until(lambda: len(kept.numbers(running.service.records.days, "failure")) >= count)
    return kept.reports(running.service, "failure")


TIME_ENOUGH = "const now = performance.now.bind(performance); performance.now = () => now() / 50;"
"""Drawing may take milliseconds of a page's time; on a machine that is busy with something else a sketch would be cut."""


def test_a_failure_says_what_led_to_it(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """Stack, steps, the request that was refused in the same trace; of fields whether they are filled, never what is in them."""
    page.add_init_script(TIME_ENOUGH)
    page.goto(f"{ferry.url}/sailings/4711")
    page.get_by_label("Vehicle height").fill("2.47135")
    page.get_by_label("Password").fill("hunter2-3f9a77")
    page.get_by_role("button", name="Board").click()
    page.get_by_text("refused").wait_for()
    page.get_by_role("button", name="Take the surcharge").click()
    (found,) = failures(running, 1)
    (link,) = found["exceptions"]
    assert link["type"] == "TypeError" and "metres" in link["message"]
    inner = link["frames"][-1]
    assert (inner["function"], inner["file"], inner["line"]) == ("surcharge", f"{ferry.url}/page.js", 4)
    # On a machine that is busy with something else the page may stand still, which is a step too.
    trail = [step for step in found["trail"] if "stood still" not in step["message"]]
    steps = [step["message"] for step in trail]
    board = ferry.url.removeprefix("http://")
    assert steps == [
        "field text “Vehicle height”: filled, up to 10 characters",
        "field password “Password”: filled, up to 100 characters",
        "click button “Board”",
        f"POST {board}/boardings → 422",
        "click button “Take the surcharge”",
    ]
    assert "hunter2" not in json.dumps(found) and "2.47135" not in json.dumps(found)
    assert found["run"]["entry_point"] == "page /sailings/{id}" and found["release"] == "3.1.0"
    (parent,) = ferry.traces
    assert parent.split("-")[1] == found["trace_id"]
    assert trail[3]["attributes"]["span_id"] == parent.split("-")[2]
    assert found["attributes"]["url.full"] == f"{ferry.url}/sailings/4711"
    page.goto("about:blank")
    until(lambda: len(kept.numbers(running.service.records.days, "run")) >= 1)
    (whole,) = kept.reports(running.service, "run")
    assert whole["run"]["outcome"] == "failed" and whole["run"]["failures"] == [found["id"]]
    # What the person saw, with the failure and where the request was refused: the field was filled, the password too.
    for sketches in (found["sketches"], whole["sketches"]):
        boxes = {(box["role"], box.get("name")): box for box in sketches[-1]["boxes"]}
        assert boxes["textbox", "Vehicle height"]["state"] == ["filled", "required"]
        assert boxes["textbox", "Vehicle height"]["field"] == "height"
        assert ("heading", "Boarding") in boxes and boxes["textbox", "Password"]["state"] == ["filled"]
        left, top, width, height = boxes["button", "Take the surcharge"]["at"]
        assert 0 <= left < 1280 and 0 <= top < 800 and width > 10 and height > 10
    assert "hunter2" not in json.dumps(whole) and "2.47135" not in json.dumps(whole)


def test_the_console_draws_what_the_person_saw(running: Running, ferry: FerryPage, key: str, page: Page, browser: Browser) -> None:  # fmt: skip
    """On the page of the issue, step by step, with the fields in words; whoever cannot see it reads it."""
    page.add_init_script(TIME_ENOUGH)
    page.goto(f"{ferry.url}/sailings/4711")
    page.get_by_label("Password").fill("hunter2-3f9a77")
    with page.expect_response("**/sketch.js"):
        page.get_by_label("Vehicle height").fill("2.47135")
    page.get_by_role("button", name="Take the surcharge").click()
    failures(running, 1)
    with signed_in(browser, running) as console:
        console.goto(f"{running.url}/issues/1")
        part = console.get_by_role("group", name="What the person saw")
        expect(part.get_by_role("row", name="Vehicle height")).to_contain_text("filled")
        expect(part.get_by_role("row", name="Password")).to_contain_text("filled")
        expect(console.get_by_role("main")).not_to_contain_text("hunter2")
        usable(console, walks=False)


def test_what_was_lost_on_the_way_is_said(running: Running, ferry: FerryPage, key: str, page: Page, browser: Browser) -> None:  # fmt: skip
    """The service says that a field was empty, the person that it was filled: on the service's issue both stand side by side."""
    page.add_init_script(TIME_ENOUGH)
    page.goto(f"{ferry.url}/sailings/4711")
    with page.expect_response("**/sketch.js"):
        page.get_by_label("Vehicle height").fill("2.4")
        page.get_by_label("Password").focus()
    page.get_by_role("button", name="Board").click()
    page.get_by_text("refused").wait_for()
    page.goto("about:blank")
    until(lambda: kept.numbers(running.service.records.days, "run"))
    (parent,) = ferry.traces
    service = running.add_app("sailings")
    request = {
        "method": "POST",
        "url": "/boardings",
        "status": 500,
        "body": {"type": "application/json", "json": {"height": ""}},
    }
    link = raised_in("sailings.boardings", "board", "ValueError", "could not convert string to float: ''")
    running.send(service, failure(exceptions=link, request=request, trace_id=parent.split("-")[1]))
    said = "“Vehicle height” was filled on the page; in what sailings received, height was empty."
    assert running.get(f"/api/traces/{parent.split('-')[1]}/seen")["said"] == [said]
    with signed_in(browser, running) as console:
        console.goto(f"{running.url}/issues/1")
        expect(console.get_by_text(said)).to_be_visible()
        expect(console.get_by_text("On page /sailings/{id} of pierboard, in the same trace.")).to_be_visible()
        expect(console.get_by_role("row", name="Vehicle height")).to_contain_text("filled")


THROWN = """
queueMicrotask(() => { throw null; });
Promise.reject('no depth');
const frozen = Object.freeze(new RangeError('frozen'));
setTimeout(() => { throw frozen; });
setTimeout(() => { throw frozen; });
Promise.reject(new Proxy({}, { get() { throw new Error('getter'); } }));
const odd = new Error('odd'); Object.defineProperty(odd, 'message', { get() { throw 1; } });
setTimeout(() => { throw odd; });
setTimeout(() => { throw new AggregateError([new TypeError('low'), 7], 'both', { cause: 'tide' }); });
document.head.append(Object.assign(document.createElement('script'), { src: '/missing.js?secret=1' }));
console.warn('the tide is', 4);
"""


def test_whatever_is_thrown(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """Null, a text, what is frozen, what throws when it is looked at, several in one; each once."""
    ferry.script = THROWN
    page.goto(ferry.url)
    found = failures(running, 6)
    by_message = {report["exceptions"][0]["message"]: report["exceptions"] for report in found}
    assert [link["type"] for link in by_message["both"]] == [
        "AggregateError",
        "thrown string",
        "TypeError",
        "thrown number",
    ]
    assert [link.get("relation") for link in by_message["both"]] == [None, "cause", "member", "member"]
    assert by_message["null"][0]["type"] == "thrown null" and by_message["no depth"][0]["type"] == "thrown string"
    assert "frozen" in by_message and len(found) == 6
    said = [step["message"] for report in found for step in report["trail"]]
    assert "the tide is 4" in said


def test_a_page_that_throws_a_thousand_times(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """It says it thirty times a minute, and stays alive."""
    ferry.script = "let n = 0; const again = setInterval(() => { if (++n > 1000) { clearInterval(again); document.title = 'done'; } throw new Error('tide ' + n); });"
    page.goto(ferry.url)
    until(lambda: page.title() == "done")
    page.evaluate("obitus.flush()")
    assert len(failures(running, 30)) == 30


def test_moves_inside_a_page_are_runs(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """Each has its entry point; the one that was refused is there whole, the others are counted."""
    page.goto(f"{ferry.url}/sailings/4711")
    page.evaluate("history.pushState({}, '', '/sailings/4711/boardings')")
    page.get_by_role("button", name="Board").click()
    page.get_by_text("refused").wait_for()
    page.evaluate("history.pushState({}, '', '/tides')")
    page.goto("about:blank")

    def counted() -> set[str]:
        return {report["entry_point"] for report in kept.reports(running.service, "tally")}

    until(lambda: len(counted()) == 3)
    assert counted() == {"page /sailings/{id}", "page /sailings/{id}/boardings", "page /tides"}

    def refused() -> list[str]:
        runs = [report["run"] for report in kept.reports(running.service, "run")]
        return [one["entry_point"] for one in runs if one["outcome"] == "refused"]

    until(refused)
    assert refused() == ["page /sailings/{id}/boardings"]


def test_a_page_whose_addresses_stand_for_another_origin(running: Running, ferry: FerryPage, key: str, page: Page) -> None:  # fmt: skip
    """With `<base>` a path is an address there: no trace goes to a host that is not named, and the step says where the request went."""
    with served() as other:
        ferry.head = f'<base href="{other.url}/">{ferry.head}'
        ferry.policy = ferry.policy.replace("'self'", f"'self' {other.url}")
        page.goto(ferry.url)
        page.evaluate("fetch('/boardings?pass=p-102', { method: 'POST', body: '{}' }).catch(() => undefined)")
        until(lambda: other.traces)
        assert other.traces == [""] and ferry.traces == []
        page.evaluate("obitus.record(new Error('no berth')); obitus.flush()")
        (found,) = failures(running, 1)
        asked = [step["attributes"]["url.full"] for step in found["trail"] if step["kind"] == "http"]
        assert asked == [f"{other.url}/boardings"]


def test_nothing_before_it_is_switched_on_and_nothing_after(running: Running, ferry: FerryPage, key: str, page: Page) -> None:  # fmt: skip
    """Loaded alone it changes nothing; stopped it puts back what it changed, and forgets."""
    ferry.head = ferry.head.replace(" data-watch", "")
    page.goto(ferry.url)
    native = "[fetch, XMLHttpRequest.prototype.send, history.pushState, console.error].every((one) => String(one).includes('[native code]'))"
    assert page.evaluate(native)
    page.get_by_role("button", name="Take the surcharge").click()
    page.evaluate(f"obitus.watch({{ key: '{key}' }})")
    assert not page.evaluate(native)
    page.evaluate("obitus.say('before'); obitus.stop()")
    assert page.evaluate(native)
    page.get_by_role("button", name="Take the surcharge").click()
    assert page.evaluate("Object.keys(localStorage).length + document.cookie.length") == 0
    page.evaluate(f"obitus.watch({{ key: '{key}' }}); obitus.attach({{ 'user.id': 'p-102' }})")
    assert page.evaluate("obitus.record(new Error('no berth'), { berth: 4 })")
    page.evaluate("obitus.flush()")
    (found,) = failures(running, 1)
    assert found["handled"] and found["captured_by"] == "record"
    assert (found["attributes"]["user.id"], found["attributes"]["berth"]) == ("p-102", 4)
    assert not kept.numbers(running.service.records.days, "log")


def test_a_run_of_its_own(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """What it throws is reported and thrown on; the page's run goes on behind it."""
    page.goto(ferry.url)
    said = page.evaluate(
        "obitus.run('print pass', async () => { obitus.mark('laid out'); throw new RangeError('no paper'); }).catch((error) => error.message)"
    )
    assert said == "no paper"
    page.get_by_role("button", name="Take the surcharge").click()
    found = {report["exceptions"][0]["message"]: report for report in failures(running, 2)}
    assert found["no paper"]["run"]["entry_point"] == "print pass"
    assert [step["message"] for step in found["no paper"]["trail"]] == ["laid out"]
    (other,) = [report for message, report in found.items() if message != "no paper"]
    assert other["run"]["entry_point"] == "page /"


MANY = """
document.body.innerHTML = '<h1>Deck</h1><div data-obitus-hide><p>p-102 owes 4.20</p></div><div id="host"></div><label>Note <textarea>mine</textarea></label><div contenteditable>typed too</div>';
const root = document.getElementById('host').attachShadow({ mode: 'open' });
root.innerHTML = '<button>Inside</button>';
const list = document.createElement('ul');
for (let n = 0; n < 100_000; n++) list.append(Object.assign(document.createElement('li'), { textContent: 'berth ' + n }));
document.body.append(list);
"""


def test_a_sketch_is_bounded_and_masked(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """Of a hundred thousand elements what is on the screen, in a few milliseconds; shadow roots too; what is marked is a box with nothing in it."""
    ferry.script = MANY
    page.goto(ferry.url)
    drawn = page.evaluate(
        "(async () => { const { draw } = await import(SKETCH); draw(50); return [draw(8)[0], draw(2000)[0]]; })()".replace(
            "SKETCH", json.dumps(f"{running.url}/sketch.js")
        )
    )
    for made in drawn:
        assert len(json.dumps(made)) < 30_000 and len(made["boxes"]) <= 200
        assert "owes" not in json.dumps(made) and "mine" not in json.dumps(made)
    # What the first one comes to in its milliseconds hangs on the machine.
    boxes = drawn[1]["boxes"]
    assert {"role": "hidden", "at": boxes[1]["at"]} in boxes
    assert any(box["role"] == "textbox" and box["state"] == ["filled"] for box in boxes)
    assert any(box.get("name") == "Inside" for box in boxes)
    assert {box.get("name") for box in boxes} >= {"Deck", "berth 0"}


ODD = """
const asked = window.fetch;
window.fetch = function (...given) { document.title = 'patched'; return asked.apply(this, given); };
Object.freeze(console);
window.Promise = class Odd { constructor() { throw new Error('no promises today'); } };
Object.defineProperty(window, 'indexedDB', { get() { throw new DOMException('blocked', 'SecurityError'); } });
"""


def test_a_page_that_puts_its_own_in_the_place_of_the_browser_s(running: Running, ferry: FerryPage, key: str, page: Page) -> None:  # fmt: skip
    """Its own fetch, a frozen console, another Promise, storage that is blocked: the page works, and what fails in it arrives."""
    ferry.script = ODD + SCRIPT
    page.goto(f"{ferry.url}/sailings/4711")
    page.get_by_role("button", name="Board").click()
    page.get_by_text("refused").wait_for()
    page.get_by_role("button", name="Take the surcharge").click()
    (found,) = failures(running, 1)
    assert [step["message"].rpartition(" ")[2] for step in found["trail"] if step["kind"] == "http"] == ["422"]
    assert page.evaluate("document.title") == "patched"


def test_a_script_of_another_origin_that_says_nothing(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """Of it the browser says `Script error.` and no more: that is no failure to group, but a step before the next one."""
    with served() as other:
        other.script = "setTimeout(() => { throw new Error('of somebody else'); });"
        ferry.policy = ferry.policy.replace("script-src", f"script-src {other.url}")
        page.goto(ferry.url)
        with page.expect_event("pageerror"):
            page.evaluate(
                f"document.head.append(Object.assign(document.createElement('script'), {{ src: '{other.url}/page.js' }}))"
            )
        page.get_by_role("button", name="Take the surcharge").click()
        (found,) = failures(running, 1)
        said = [step["message"] for step in found["trail"] if step["severity"] == "ERROR"]
        assert said == ["a script of another origin failed: Script error."]
        assert "somebody else" not in json.dumps(found)


def test_where_there_is_no_room_to_keep_anything(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """The browser's store is full: the page works, and what failed while there was no network is sent as soon as there is one."""
    page.goto(f"{ferry.url}/sailings/4711")
    full = {"origin": ferry.url, "quotaSize": 1}
    page.context.new_cdp_session(page).send("Storage.overrideQuotaForOrigin", full)
    refused = page.evaluate(
        "new Promise((done) => { const asked = indexedDB.open('tides', 1); asked.onupgradeneeded = () => asked.result.createObjectStore('t');"
        " asked.onsuccess = () => { const work = asked.result.transaction('t', 'readwrite'); work.onabort = () => done(work.error.name);"
        " work.oncomplete = () => done(''); work.objectStore('t').put('x'.repeat(1e6), 1); }; asked.onerror = () => done(asked.error.name); })"
    )
    assert refused == "QuotaExceededError"
    page.context.set_offline(True)
    for _ in range(2):
        page.get_by_role("button", name="Take the surcharge").click()
    page.context.set_offline(False)
    assert len(failures(running, 2)) == 2


def test_what_fails_without_a_network_comes_later(running: Running, ferry: FerryPage, key: str, browser: Browser) -> None:  # fmt: skip
    """Kept in the browser while there is none, sent by the next view of the page, and then kept no longer; `stop` forgets it too."""
    context = context_in(browser)
    first = context.new_page()
    first.goto(f"{ferry.url}/sailings/4711")
    context.set_offline(True)
    first.get_by_role("button", name="Take the surcharge").click()
    kept_ids = (
        "new Promise((done) => { const asked = indexedDB.open('obitus'); asked.onsuccess = () => { const store = asked.result.objectStoreNames"
        ".contains('waiting') && asked.result.transaction('waiting').objectStore('waiting').getAllKeys();"
        " if (!store) return asked.result.close(), done([]); store.onsuccess = () => (asked.result.close(), done(store.result)); }; })"
    )
    until(lambda: first.evaluate(kept_ids))
    assert not kept.numbers(running.service.records.days, "failure")
    first.close()
    context.set_offline(False)
    second = context.new_page()
    second.goto(f"{ferry.url}/sailings/4712")
    (found,) = failures(running, 1)
    steps = [step["message"] for step in found["trail"]]
    assert "offline" in steps and found["attributes"]["url.full"].endswith("/4711")
    until(lambda: not second.evaluate(kept_ids))
    context.set_offline(True)
    second.get_by_role("button", name="Take the surcharge").click()
    until(lambda: second.evaluate(kept_ids))
    second.evaluate("obitus.stop()")
    until(lambda: second.evaluate("indexedDB.databases().then((all) => all.length)") == 0)
    context.close()


def test_how_the_page_felt_is_of_its_run(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """When it answered, painted and was there, how far it jumped, how long it took to react: numbers of the view."""
    ferry.script = SCRIPT + (
        "byId('break').addEventListener('pointerdown', () => { const until = performance.now() + 120; while (performance.now() < until); });"
        "setTimeout(() => document.body.prepend(Object.assign(document.createElement('h1'), { textContent: 'Late', style: 'height: 300px' })), 300);"
    )
    page.goto(f"{ferry.url}/sailings/4711")
    page.get_by_role("heading", name="Late").wait_for()
    page.get_by_role("button", name="Take the surcharge").click()
    page.wait_for_timeout(300)
    page.goto("about:blank")
    until(lambda: kept.numbers(running.service.records.days, "run"))
    (whole,) = kept.reports(running.service, "run")
    felt = {name.rpartition(".")[2]: value for name, value in whole["attributes"].items() if "web_vital" in name}
    assert felt["ttfb"] > 0 and felt["fcp"] >= felt["ttfb"] and felt["lcp"] >= felt["fcp"], felt
    assert felt["cls"] > 0 and felt["inp"] >= 100, felt


def test_a_report_that_is_too_long_is_cut_and_not_lost(running: Running, ferry: FerryPage, key: str, page: Page) -> None:  # fmt: skip
    """Letters of several bytes, a long trail: older steps go, the failure comes."""
    page.goto(ferry.url)
    page.evaluate("for (let n = 0; n < 60; n++) obitus.mark('Φάρος '.repeat(160) + n)")
    page.get_by_role("button", name="Take the surcharge").click()
    (found,) = failures(running, 1)
    marks = [step["message"] for step in found["trail"] if step["kind"] == "mark"]
    assert 10 < len(marks) < 60 and marks[-1].endswith(("59", "…"))


def test_a_clock_that_is_a_year_off_is_corrected(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """The page says what time it thinks it is; what it reports is of now."""
    page.clock.set_system_time(datetime.now() - timedelta(days=365))
    page.goto(ferry.url)
    page.get_by_role("button", name="Take the surcharge").click()
    (found,) = failures(running, 1)
    assert abs(datetime.fromisoformat(found["time"]) - datetime.now(UTC)) < timedelta(minutes=5)
    assert found["clock_skew_ms"] > 360 * 86_400_000


def test_frames_and_closed_roots_stay_closed(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """Of a frame there is a box; what a closed shadow root holds is in no sketch and in no step."""
    ferry.script = SCRIPT + (
        "const host = document.body.appendChild(document.createElement('p')); const root = host.attachShadow({ mode: 'closed' });"
        "root.innerHTML = '<button>Secret kestrel</button>'; root.firstChild.addEventListener('click', () => surcharge({}));"
        "document.body.append(Object.assign(document.createElement('iframe'), { srcdoc: '<p>Inner kestrel</p>', title: 'Map' }));"
        "setTimeout(() => root.firstChild.click(), 200);"
    )
    page.goto(ferry.url)
    (found,) = failures(running, 1)
    assert "kestrel" not in json.dumps(found)


def test_what_a_browser_reports_by_itself(running: Running, ferry: FerryPage, key: str, page: Page) -> None:
    """A script that the content policy does not let in: the browser says so, to the address that the policy names."""
    ferry.policy += f"; report-uri {running.url}/page/browser?key={key}"
    ferry.script = "document.head.append(Object.assign(document.createElement('script'), { src: 'https://ads.example/x.js?who=p-102' }));"
    page.goto(f"{ferry.url}/sailings/4711")
    until(lambda: kept.numbers(running.service.records.days, "log"))
    (found,) = running.get("/api/records/logs?question=logger%3Dbrowser.content_policy")["records"]
    assert found["values"]["message"].startswith("content policy: script-src-elem blocked https://ads.example")
    assert "p-102" not in json.dumps(found)


@pytest.mark.parametrize("name", ["browser.js", "obitus.js"])
def test_the_script_is_small(running: Running, name: str) -> None:
    """At most 8 KB, compressed; what draws sketches is loaded by itself."""
    assert len(gzip.compress(running.http.request("GET", f"{running.url}/{name}").data)) <= 8192


def test_set_up_turns_when_the_first_page_reports(running: Running, ferry: FerryPage, browser: Browser, page: Page) -> None:  # fmt: skip
    """From nothing: a key for the page's origin, the lines to paste, and a word when what went wrong in it arrives."""
    running.add_app("pierboard")
    with signed_in(browser, running) as console:
        console.goto(f"{running.url}/set-up")
        card = console.get_by_role("article", name="pierboard")
        card.get_by_label("Environment of another key").fill("production")
        card.get_by_label("What another key for pierboard is for").select_option("page")
        card.get_by_label("Origins of the pages").fill(ferry.url)
        card.get_by_role("button", name="Make another key").click()
        expect(console.get_by_text("Waiting for the first report")).to_be_visible()
        expect(console.get_by_text("The browser's console says")).to_be_visible()
        (tag,) = [
            text for text in console.locator("pre, code").all_inner_texts() if text.strip().startswith("<script")
        ][:1]
        ferry.head = tag.replace(running.service.settings.url, running.url)
        page.goto(ferry.url)
        page.get_by_role("button", name="Take the surcharge").click()
        expect(console.get_by_text("The first report arrived")).to_be_visible()


def test_the_console_reports_what_fails_in_it(tmp_path: Path, browser: Browser) -> None:
    """Where its owner says so, with a key for its own address; its strict policy lets that in as it is."""
    thread, running = start(tmp_path / "data")
    running.add_app("console")
    key = running.ask("POST", "/api/apps/console/keys", {"origins": [running.url]}).json()["key"]
    port = running.service.settings.port
    running.http.clear()
    thread.stop()
    thread, running = start(tmp_path / "data", port=port, console_key=key)
    try:
        with signed_in(browser, running) as page:
            page.goto(f"{running.url}/issues")
            page.get_by_role("heading", name="Issues").first.wait_for()
            page.evaluate("setTimeout(() => { throw new RangeError('no such berth'); })")
            (found,) = failures(running, 1)
            assert found["run"]["entry_point"] == "page /issues" and found["exceptions"][0]["type"] == "RangeError"
            assert any(step["kind"] == "http" and "/api/" in step["message"] for step in found["trail"])
    finally:
        running.http.clear()
        thread.stop()
