"""What the client of pages takes of the main thread: ``python -m bench.page_cost``, measured in Chromium with tracing.

A busy page of 3,000 elements: each 50 ms its person clicks or fills in a field, it asks its service, warns now and then, moves inside itself, and works
for itself two thirds of the time. Each is measured three times, and the one in the middle counts: a machine that gives its processor to others for half a
second in one of ours makes that one look dear. The sampling profiler of the trace says which part of the main thread's time lies in the client's scripts or below
them. What of the browser itself it counts there is measured on the same page with functions that hand on and do nothing else, and taken off.
Bounds: 1% of the page's time, and 2 ms a step: on average, and for each click and field by itself.
"""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from typing import Any, Final, NamedTuple

from playwright.sync_api import sync_playwright
from tests.conftest import start
from tests.end_to_end.ferry_page import served

CHROMIUM: Final = "/usr/bin/chromium"
SECONDS: Final = 20
TRIES: Final = 3
OURS: Final = ("/browser.js", "/sketch.js")
HANDED_ON: Final = frozenset({"fetch", "pushState", "replaceState", "open", "send", "warn", "error"})
"""What of the browser stands below ours where the page asked for it."""
BUSY: Final = """
const list = document.body.appendChild(document.createElement('ul'));
for (let n = 0; n < 500; n++) list.insertAdjacentHTML('beforeend',
  `<li><label>Berth ${n} <input name="b${n}" value="${n}"></label> <button>Take ${n}</button> <a href="#b${n}">see ${n}</a><p>free</p></li>`);
const fields = [...list.querySelectorAll('input')], buttons = [...list.querySelectorAll('button')];
const work = (ms) => { const ends = performance.now() + ms; let sum = 0; while (performance.now() < ends) sum += Math.sqrt(sum + 1); return sum; };
window.steps = 0;
window.busy = setInterval(() => {
  const n = window.steps++;
  if (n % 2) buttons[n % 500].click();
  else { fields[n % 500].value += '1'; fields[n % 500].dispatchEvent(new Event('change', { bubbles: true })); }
  fetch('/boardings', { method: 'POST', body: '{}' }).catch(() => undefined);
  if (n % 10 === 0) console.warn('tide', n);
  if (n % 40 === 0) history.pushState({}, '', '/sailings/' + n);
  work(33);
}, 50);
"""


HANDING_ON: Final = """
for (const [on, name] of [[window, 'fetch'], [console, 'warn'], [history, 'pushState']]) {
  const before = on[name];
  on[name] = function (...given) { return Reflect.apply(before, this, given); };
}
//# sourceURL=https://floor.example/browser.js
"""

TIMED: Final = """
window.listened = [];
const add = EventTarget.prototype.addEventListener;
EventTarget.prototype.addEventListener = function (kind, act, options) {
  if (typeof act !== 'function' || !new Error().stack.includes('/browser.js')) return Reflect.apply(add, this, [kind, act, options]);
  return Reflect.apply(add, this, [kind, function (event) {
    const began = performance.now();
    try { return Reflect.apply(act, this, [event]); }
    finally { if (kind === 'click' || kind === 'change') listened.push(performance.now() - began); }
  }, options]);
};
"""
"""Times each step that is recorded of a click or a field, by the page's own clock (a tenth of a millisecond)."""


class Traced(NamedTuple):
    """What the samples of the main thread say."""

    ours_ms: float
    all_ms: float
    stretches_ms: list[float]
    """Stretches of ours without anything else in between, the shortest first."""

    @property
    def share(self) -> float:
        """The part of the time that was ours."""
        return self.ours_ms / self.all_ms


class Measured(NamedTuple):
    """One measurement."""

    traced: Traced
    steps: int
    """How many were recorded."""
    each_ms: list[float]
    """How long each click and field took to record, the shortest first."""


def main() -> None:
    """Print the table."""
    floor = _middle(None).traced
    print(f"handing on alone: {floor.ours_ms:.0f} of {floor.all_ms:.0f} ms, {100 * floor.share:.2f}%, taken off below")
    for sketches in (False, True):
        traced, steps, each_ms = _middle(" data-sketches" if sketches else "")
        share = traced.share - floor.share
        ours_ms = share * traced.all_ms
        print(f"{'with' if sketches else 'without'} sketches: {ours_ms:.0f} of {traced.all_ms:.0f} ms, {100 * share:.2f}% (bound 1%)")  # fmt: skip
        print(
            f"    {steps} steps: {ours_ms / steps:.3f} ms each (bound 2); with all that is sent, 99 of 100 stretches below {_most(traced.stretches_ms):.1f} ms"
        )
        print(
            f"    {len(each_ms)} clicks and fields: 99 of 100 recorded within {_most(each_ms):.1f} ms, the longest in {each_ms[-1]:.1f} ms (bound 2)"
        )


def _most(sorted_ms: list[float]) -> float:
    """Return what 99 of 100 stay below."""
    return sorted_ms[int(len(sorted_ms) * 0.99)]


def _middle(also: str | None) -> Measured:
    """Return the one of three measurements that has the middle share of ours."""
    return sorted((_measured(also) for _ in range(TRIES)), key=lambda one: one.traced.share)[TRIES // 2]


def _measured(also: str | None) -> Measured:
    """Measure once; ``also`` goes with the client's tag, and where it is None, functions that hand on stand in the client's place."""
    with tempfile.TemporaryDirectory() as folder, served() as ferry, sync_playwright() as playwright:
        thread, running = start(Path(folder) / "data")
        running.add_app("pierboard")
        key = running.ask("POST", "/api/apps/pierboard/keys", {"origins": [ferry.url]}).json()["key"]
        tag = f'<script src="{running.url}/browser.js" data-key="{key}" data-watch{also or ""}></script>'
        ferry.head = "" if also is None else tag
        ferry.script = BUSY
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.add_init_script(HANDING_ON if also is None else TIMED)
        page.goto(ferry.url)
        page.wait_for_timeout(2000)
        before = page.evaluate("steps")
        browser.start_tracing(page=page, categories=["disabled-by-default-v8.cpu_profiler", "v8", "devtools.timeline"])
        page.wait_for_timeout(SECONDS * 1000)
        trace = json.loads(browser.stop_tracing())
        # A click or field, a request, and now and then a warning and a move.
        steps = round((page.evaluate("steps") - before) * 2.125)
        each = sorted(page.evaluate("window.listened ?? []"))
        browser.close()
        running.http.clear()
        thread.stop()
    return Measured(_read(trace["traceEvents"]), steps, each)


def _read(events: list[dict[str, Any]]) -> Traced:
    """Return what the samples of the thread say that has most of them."""
    by_profile: dict[tuple[int, str], list[dict[str, Any]]] = {}
    for event in events:
        if event["name"] == "ProfileChunk":
            by_profile.setdefault((event["pid"], event["id"]), []).append(event["args"]["data"])
    chunks = max(by_profile.values(), key=lambda all_: sum(len(one.get("timeDeltas", ())) for one in all_))
    is_ours: dict[int, bool] = {}
    # Whether a script of the page stands above: then what the browser does below ours is what the page asked for.
    is_asked: dict[int, bool] = {}
    ours = total = stretch = 0.0
    stretches = []
    for chunk in chunks:
        profile = chunk.get("cpuProfile", {})
        for node in profile.get("nodes", ()):
            url = node["callFrame"].get("url", "")
            inside = is_ours.get(node.get("parent", -1), False)
            asked = is_asked.get(node.get("parent", -1), False)
            is_asked[node["id"]] = asked if url.endswith(OURS) or not url else True
            handed_on = asked and node["callFrame"]["functionName"] in HANDED_ON
            is_ours[node["id"]] = url.endswith(OURS) or (inside and not url and not handed_on)
        for sample, delta in zip(profile.get("samples", ()), chunk.get("timeDeltas", ()), strict=True):
            total += delta
            if is_ours[sample]:
                ours += delta
                stretch += delta
            elif stretch:
                stretches.append(stretch / 1000)
                stretch = 0.0
    return Traced(ours / 1000, total / 1000, sorted(stretches))


if __name__ == "__main__":
    main()
