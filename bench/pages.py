"""Failures of pages in real browsers, grouped: ``python -m bench.pages`` prints B-cubed F1 with source maps and without.

Seventeen pages with planted faults (``tests/end_to_end/pages``), two builds of them with unrelated changes between, each fault met three times with other
values, in Chromium and, where Debian's Firefox is there, in Firefox. Bounds: 0.97 with maps, 0.85 without.
"""

from __future__ import annotations

import json
import shutil
import subprocess
import tempfile
import time
from collections import defaultdict
from collections.abc import Callable
from pathlib import Path
from typing import Final

from playwright.sync_api import sync_playwright
from tests.conftest import Running, start
from tests.end_to_end.pages import Served, build, served

from bench.grouping import score

TURNS: Final = 3
CHROMIUM: Final = "/usr/bin/chromium"
_ISSUES: Final = "SELECT seq, issue_id FROM failures ORDER BY seq"
_NAMES: Final = "SELECT id, type, place, message FROM issues"
RELEASES: Final = ("3.1.0", "3.1.1")


def main() -> None:
    """Walk through the pages and print what was grouped how."""
    browsers: dict[str, Callable[[Served], None]] = {"Chromium": _in_chromium}
    if shutil.which("firefox-esr"):
        browsers["Firefox"] = _in_firefox
    else:
        print("Firefox is not here: apt-get install firefox-esr")
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        builds = [build(place / release, is_changed=bool(n)) for n, release in enumerate(RELEASES)]
        for has_maps in (True, False):
            thread, running = start(place / f"data-{has_maps}")
            try:
                _walked(running, builds, browsers, has_maps)
                _report(running, "with maps" if has_maps else "without maps", 0.97 if has_maps else 0.85)
            finally:
                running.http.clear()
                thread.stop()


def _walked(
    running: Running, builds: list[Path], browsers: dict[str, Callable[[Served], None]], has_maps: bool
) -> None:
    running.add_app("pierboard")
    for release, folder in zip(RELEASES, builds, strict=True):
        if has_maps:
            for path in sorted(folder.rglob("*.map")):
                file = path.relative_to(folder).as_posix().removesuffix(".map")
                url = f"{running.url}/api/apps/pierboard/maps?release={release}&path={file}"
                answer = running.http.request("POST", url, body=path.read_bytes(), headers={"Authorization": f"Bearer {running.token}"})  # fmt: skip
                assert answer.status == 201, answer.data
        for browser in browsers.values():
            with served(folder) as pages:
                key = running.ask("POST", "/api/apps/pierboard/keys", {"origins": [pages.url]}).json()["key"]
                pages.head = f'<script src="{running.url}/browser.js" data-key="{key}" data-release="{release}" data-watch></script>'
                browser(pages)
            # An address may send two bodies a second: what waits comes then.
            time.sleep(5)


def _in_chromium(pages: Served) -> None:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox"])
        page = browser.new_page()
        page.goto(pages.walk(TURNS))
        page.wait_for_url(f"{pages.url}/done", timeout=300_000)
        browser.close()


def _in_firefox(pages: Served) -> None:
    with tempfile.TemporaryDirectory() as profile:
        words = ["firefox-esr", "--headless", "--no-remote", "--profile", profile, pages.walk(TURNS)]
        process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            assert pages.is_done.wait(300), "Firefox did not come to the end"
            time.sleep(2)
        finally:
            process.terminate()
            process.wait(30)


def _report(running: Running, title: str, bound: float) -> None:
    reader = running.service.records.reader
    named = {row["id"]: f"{row['type']} in {row['place']}: {row['message'][:70]}" for row in reader.rows(_NAMES)}
    rows = reader.rows(_ISSUES)
    labelled = []
    for row in rows:
        report = json.loads(running.service.records.evidence.read(row["seq"]))
        labelled.append((report["attributes"].get("planted", "?"), row["issue_id"]))
    found = score([number for _, number in labelled], [fault for fault, _ in labelled])
    print(
        f"\n{title}: {len(labelled)} failures of {len({fault for fault, _ in labelled})} faults in {len(named)} issues"
    )
    print(f"B-cubed precision {found.precision:.3f}, recall {found.recall:.3f}, F1 {found.f1:.3f} (bound {bound})")
    by_fault, by_issue = defaultdict(set), defaultdict(set)
    for fault, number in labelled:
        by_fault[fault].add(number)
        by_issue[number].add(fault)
    for fault, numbers in sorted(by_fault.items()):
        if len(numbers) > 1:
            print(f"  parted: {fault}: " + "; ".join(f"#{n} {named[n]}" for n in sorted(numbers)))
    for number, faults in sorted(by_issue.items()):
        if len(faults) > 1:
            print(f"  merged: #{number} {named[number]}: {', '.join(sorted(faults))}")


if __name__ == "__main__":
    main()
