"""Pages as teams build them: frameworks, workers, lazily loaded parts, source maps by the id of the build."""

from __future__ import annotations

import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

import pytest
from playwright.sync_api import Browser

from tests import kept
from tests.conftest import Running, until
from tests.end_to_end.browsing import context_in
from tests.end_to_end.pages import Served, build, served

Walk = Callable[..., dict[str, list[dict[str, Any]]]]


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Build the pages, each file with an id that its map has too."""
    return build(tmp_path_factory.mktemp("pages"), with_ids=True)


@pytest.fixture
def pages(running: Running, built: Path) -> Iterator[Served]:
    """Serve them, let them report, and send their maps under names that they do not have."""
    with served(built) as found:
        running.add_app("pierboard")
        made = running.ask("POST", "/api/apps/pierboard/keys", {"origins": [found.url]}).json()
        found.head = f'<script src="{running.url}/browser.js" data-key="{made["key"]}" data-watch></script>'
        for path in built.rglob("*.map"):
            # By path only the worker's is found: it says no id to the page.
            name = path.name.removesuffix(".map")
            query = urlencode(
                {"release": "", "path": f"assets/{name}" if name.startswith("seats") else f"elsewhere/x-{name}"}
            )
            url = f"{running.url}/api/apps/pierboard/maps?{query}"
            headers = {"Authorization": f"Bearer {running.token}"}
            assert running.http.request("POST", url, body=path.read_bytes(), headers=headers).status == 201
        yield found


@pytest.fixture
def walk(running: Running, browser: Browser, pages: Served) -> Walk:
    """Walk through a page, and return its failures by the fault that was planted."""

    def walked(name: str, count: int) -> dict[str, list[dict[str, Any]]]:
        context = context_in(browser)
        page = context.new_page()
        page.goto(pages.walk(1, name))
        page.wait_for_url(f"{pages.url}/done")
        context.close()
        until(lambda: len(kept.numbers(running.service.records.days, "failure")) >= count)
        found: dict[str, list[dict[str, Any]]] = {}
        for report in kept.reports(running.service, "failure"):
            found.setdefault(report["attributes"]["planted"].partition("/")[2], []).append(report)
        return found

    return walked


def inner(report: dict[str, Any]) -> tuple[str, str]:
    """Return file and function of the innermost own frame."""
    frames = [frame for frame in report["exceptions"][0]["frames"] if frame.get("own", True)]
    return frames[-1]["file"], frames[-1]["function"]


@pytest.mark.parametrize(
    ("page", "places", "attributes"),
    [
        (
            "passes",
            {
                "holder is missing": ("src/passes.tsx", "Holder"),
                "stamp is dry": ("src/passes.tsx", "<anonymous>"),
                "nothing around it": ("src/passes.tsx", "<anonymous>"),
                "tray is missing": ("src/passes.tsx", "<anonymous>"),
            },
            {"holder is missing": {"component.stack"}, "tray is missing": set()},
        ),
        (
            "decks",
            {
                "deck without lanes": ("src/decks.ts", "<anonymous>"),
                "cars are none": ("src/decks.ts", "load"),
                "deck lies too low": ("src/decks.ts", "<anonymous>"),
            },
            {"deck without lanes": {"component.name", "component.part"}},
        ),
        (
            "sailings",
            {
                "sailing without a ship": ("src/lib/Sailing.svelte", ""),
                "bell does not ring": ("src/lib/Sailing.svelte", ""),
                "gangway is up": ("src/lib/Board.svelte", ""),
            },
            {},
        ),
    ],
)
def test_what_a_framework_caught(walk: Walk, page: str, places: dict[str, tuple[str, str]], attributes: dict[str, set[str]]) -> None:  # fmt: skip
    """React, Vue and Svelte hand their failures to the one function; each is there once, at the line that people wrote."""
    found = walk(page, len(places))
    assert {fault: len(reports) for fault, reports in found.items()} == dict.fromkeys(places, 1)
    for fault, (file, function) in places.items():
        (report,) = found[fault]
        assert inner(report)[0] == file and inner(report)[1].startswith(function), (fault, inner(report))
        assert report["handled"] is False
        named = {name for name in report["attributes"] if name.startswith("component.")}
        assert named >= attributes.get(fault, set()), (fault, named)
    caught = {fault for fault, (report,) in found.items() if report["captured_by"] == "boundary"}
    assert len(caught) >= 2


def test_workers_and_parts_that_are_loaded_later(walk: Walk) -> None:
    """What fails in a worker is said once, with its place; so is a part that was loaded when it was needed."""
    lounge = walk("lounge", 4)
    (worker,) = lounge["worker fails"]
    assert worker["captured_by"] == "worker" and worker["exceptions"][0]["type"] == "TypeError"
    assert inner(worker)[0].endswith("src/lib/seats.ts")
    kiosk = walk("kiosk", 8)
    (paper,) = kiosk["paper is missing"]
    assert any("/assets/printer-" in file for file in paper["debug_ids"])
    assert inner(paper) == ("src/lib/printer.ts", "sheets")
    assert [len(reports) for reports in kiosk.values()] == [1] * len(kiosk)


def test_the_package_is_what_a_bundler_takes(tmp_path: Path) -> None:
    """Packed, installed without a network, built into a page: with its types, its plugin, and nothing that it needs beside."""
    root = Path(__file__).parents[2]
    subprocess.run(["make", "-s", "page-package"], cwd=root, check=True, timeout=300, stdout=subprocess.DEVNULL)
    (packed,) = (root / "build").glob("obitus-browser-*.tgz")
    (tmp_path / "package.json").write_text('{"name": "pierboard", "type": "module"}')
    subprocess.run(
        ["npm", "install", "--offline", "--no-audit", "--no-fund", "--silent", packed],
        cwd=tmp_path,
        check=True,
        timeout=120,
    )
    package = tmp_path / "node_modules" / "obitus-browser"
    assert {path.name for path in package.iterdir()} == {"obitus.js", "vite-plugin.js", "types", "package.json"}
    assert "export declare function watch(" in (package / "types" / "index.d.ts").read_text()
    code = "import { watch, run } from 'obitus-browser'; import { stamped } from 'obitus-browser/vite'; console.log(typeof watch, typeof run, stamped().name);"
    said = subprocess.run(
        ["node", "--input-type=module", "-e", code],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=150,
        check=False,
    )
    assert said.stdout.split() == ["function", "function", "obitus"], said.stderr
