"""Source maps: what a real build made comes back as it was written, when it fails after the maps came and before."""

from __future__ import annotations

import gzip
import hashlib
import json
import shutil
import subprocess
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import quote, urlencode

import pytest

from obitus.core.stacks import find_stacks, report_form
from obitus.store import maps as store
from obitus.store.database import Reader
from obitus.store.rows.maps import MapRow
from tests.conftest import Running, failure, start, until
from tests.core.maps.writing import map_of

HERE = Path(__file__).parent / "built"
CONSOLE = Path(__file__).parents[2] / "console" / "package.json"
PAGE = "https://pier.skerry.example/"


class Build(NamedTuple):
    """What one build made."""

    folder: Path
    file: str

    @property
    def map(self) -> bytes:
        return (self.folder / f"{self.file}.map").read_bytes()

    def stack(self, case: str) -> list[dict[str, Any]]:
        """Return what a browser would report: the stack of a failure, with the addresses that the page is served under."""
        words = ["node", HERE / "fail.mjs", self.folder / self.file, case]
        said = subprocess.run(words, capture_output=True, text=True, timeout=150, check=True).stdout
        (found,) = find_stacks(said.replace(f"file://{self.folder}/", PAGE))
        return report_form(found.chain)


def built(source: Path) -> Build:
    """Build the page of a folder."""
    folder = source / "dist"
    subprocess.run(["node", HERE / "build.mjs", CONSOLE, source, folder], check=True, timeout=120)
    (path,) = folder.rglob("*.js")
    return Build(folder, path.relative_to(folder).as_posix())


@pytest.fixture(scope="module")
def builds(tmp_path_factory: pytest.TempPathFactory) -> tuple[Build, Build]:
    """Two builds of one page: before the second something that has nothing to do with its faults was added."""
    place = tmp_path_factory.mktemp("built")
    for name in ("one", "two"):
        shutil.copytree(HERE, place / name)
    page = place / "two" / "src" / "page.ts"
    page.write_text(
        "export const lanes = [1, 2, 3].map((lane) => ({ lane, open: lane < 3 }));\n"
        "export function lanesOpen(): number {\n  return lanes.filter((one) => one.open).length;\n}\n"
        + page.read_text()
    )
    return built(place / "one"), built(place / "two")


def send(running: Running, build: Build, release: str, **more: Any) -> Any:
    """Send the map of a build, as a pipeline does."""
    query = urlencode({"release": release, "path": build.file})
    headers = {"Content-Encoding": "gzip", "Authorization": f"Bearer {more.get('token', running.token)}"}
    return running.http.request(
        "POST", f"{running.url}/api/apps/pierboard/maps?{query}", body=gzip.compress(build.map), headers=headers
    )


def frames_of(running: Running, number: int) -> list[dict[str, Any]]:
    """Return the own frames of the latest failure of an issue, the innermost first."""
    latest = running.get(f"/api/issues/{number}")["latest"]
    frames: list[dict[str, Any]] = latest["report"]["exceptions"][0]["frames"]
    return [frame for frame in reversed(frames) if frame.get("own", True)]


def test_a_failure_leads_to_the_source(running: Running, builds: tuple[Build, Build]) -> None:
    """Function, file, line and source as people wrote them; where it stood in what ran is kept."""
    key = running.add_app("pierboard")
    assert send(running, builds[0], "3.1.0").status == 201
    running.send(key, failure(exceptions=builds[0].stack("height"), release="3.1.0"))
    (issue,) = running.issues()
    assert (issue["type"], issue["place"]) == ("TypeError", "src/fares.ts.Fares.surcharge")
    inner, quote_, confirm, board = frames_of(running, 1)[:4]
    assert (inner["file"], inner["line"], inner["function"]) == ("src/fares.ts", 13, "Fares.surcharge")
    assert inner["source"]["line"].strip() == "return vehicle.height!.metres > 2.1 ? 4 : 0;"
    assert inner["built"]["file"].startswith(PAGE) and inner["built"]["line"] == 1
    assert [one["function"] for one in (quote_, confirm, board)] == ["Fares.quote", "confirm", "board"]


def test_a_rebuild_stays_one_issue(running: Running, builds: tuple[Build, Build]) -> None:
    """Other minified names, another file, other lines: the same two faults, each one issue."""
    key = running.add_app("pierboard")
    for build, release in zip(builds, ("3.1.0", "3.1.1"), strict=True):
        send(running, build, release)
        for case in ("height", "fare"):
            running.send(key, failure(exceptions=build.stack(case), release=release))
    assert builds[0].file != builds[1].file
    assert sorted((one["type"], one["failures"]) for one in running.issues()) == [("RangeError", 2), ("TypeError", 2)]


def test_maps_that_come_later(running: Running, builds: tuple[Build, Build]) -> None:
    """What came before is turned back, and grouped again with what came after; undoing is possible as with any regrouping."""
    key = running.add_app("pierboard")
    for build, release in zip(builds, ("3.1.0", "3.1.1"), strict=True):
        running.send(key, failure(exceptions=build.stack("height"), release=release))
    before = [one["place"] for one in running.issues()]
    assert "src/fares.ts.Fares.surcharge" not in before
    said = {}
    for build, release in zip(builds, ("3.1.0", "3.1.1"), strict=True):
        send(running, build, release)
        said = running.ask("POST", "/api/apps/pierboard/maps/turn-back", {"release": release}).json()
        until(lambda: running.get(f"/api/regroupings/{said['regrouping']}")["state"] == "done")  # noqa: B023 - waited for here
    assert "came after failures" in said["said"]
    (issue,) = running.issues()
    assert (issue["place"], issue["failures"]) == ("src/fares.ts.Fares.surcharge", 2)
    assert frames_of(running, issue["number"])[0]["function"] == "Fares.surcharge"
    unknown = running.ask("POST", "/api/apps/pierboard/maps/turn-back", {"release": "9.9.9"}).json()
    assert unknown["regrouping"] is None


def test_only_what_changed_is_sent(running: Running, builds: tuple[Build, Build]) -> None:
    """A pipeline asks first; its key is for one app, and has to be one that may deploy."""
    running.add_app("pierboard")
    key = running.ask("POST", "/api/apps/pierboard/keys", {"environment": "ci", "may_deploy": True}).json()["key"]
    plain = running.ask("POST", "/api/apps/pierboard/keys", {"environment": "ci"}).json()["key"]
    one = {"path": builds[0].file, "hash": hashlib.sha256(builds[0].map).hexdigest()}
    order = {"release": "3.1.0", "maps": [one]}
    asked = running.ask("POST", "/api/apps/pierboard/maps/missing", order, token=key)
    assert asked.json() == {"missing": [builds[0].file]}
    assert send(running, builds[0], "3.1.0", token=key).json() == {
        "path": builds[0].file, "debug_id": "", "sources": 2, "with_text": 2,
    }  # fmt: skip
    assert running.ask("POST", "/api/apps/pierboard/maps/missing", order, token=key).json() == {"missing": []}
    (release,) = running.get("/api/apps/pierboard/maps")["releases"]
    assert (release["release"], release["maps"], release["with_text"]) == ("3.1.0", 1, 1)
    assert send(running, builds[0], "3.1.0", token=plain).json()["slug"] == "not-this-key"
    running.add_app("sailings")
    assert running.ask("POST", "/api/apps/sailings/maps/missing", order, token=key).json()["slug"] == "not-this-key"
    assert running.ask("DELETE", "/api/apps/pierboard/maps?release=3.1.0", token=key).json() == {"removed": 1}
    assert not list((running.service.settings.data / "maps").iterdir())


def test_a_map_that_was_damaged_on_disk_is_sent_again(running: Running, builds: tuple[Build, Build]) -> None:
    """Frames stay as they were reported until then; the damaged file is kept aside."""
    key = running.add_app("pierboard")
    send(running, builds[0], "3.1.0")
    folder = running.service.settings.data / "maps"
    (path,) = folder.iterdir()
    path.write_bytes(path.read_bytes()[:-9])
    stack = builds[0].stack("height")
    running.send(key, failure(exceptions=stack, release="3.1.0"))
    assert frames_of(running, 1)[0]["file"].startswith(PAGE)
    order = {"release": "3.1.0", "maps": [{"path": builds[0].file, "hash": path.name.partition(".")[0]}]}
    asked = running.ask("POST", "/api/apps/pierboard/maps/missing", order)
    assert asked.json() == {"missing": [builds[0].file]} and [one.suffix for one in folder.iterdir()] == [".damaged"]
    assert send(running, builds[0], "3.1.0").status == 201
    running.send(key, failure(exceptions=stack, release="3.1.0"))
    assert frames_of(running, 2)[0]["file"] == "src/fares.ts" and list(folder.iterdir()) == [path]


def test_a_map_that_is_added_during_a_lookup_is_found(
    running: Running, builds: tuple[Build, Build], monkeypatch: pytest.MonkeyPatch
) -> None:
    """What the lookup read before is not kept."""
    key = running.add_app("pierboard")
    send(running, builds[1], "2.0.0")
    look = store.named

    def named(reader: Reader, app_id: int, release: str, name: str) -> list[MapRow]:
        rows = look(reader, app_id, release, name)
        monkeypatch.setattr(store, "named", look)
        assert send(running, builds[0], "3.1.0").status == 201
        return rows

    monkeypatch.setattr(store, "named", named)
    file = f"{PAGE}{builds[0].file}"
    assert running.service.shelf.row_of(1, "3.1.0", file) is None
    running.send(key, failure(exceptions=builds[0].stack("height"), release="3.1.0"))
    assert frames_of(running, 1)[0]["file"] == "src/fares.ts"


@pytest.mark.parametrize(
    ("body", "path", "slug"),
    [
        (b'{"version": 3, "sources": [', "a.js", "bad-map"),
        (json.dumps(map_of([]) | {"mappings": "AA"}).encode(), "a.js", "bad-map"),
        (b"[]", "a.js", "bad-map"),
        (json.dumps(map_of([[(0, 0, 0, 0)]])).encode(), "../a.js", "bad-field"),
        (b" " * (65 * 1024 * 1024), "a.js", "inflates-too-large"),
    ],
)
def test_what_is_no_map_is_refused(running: Running, body: bytes, path: str, slug: str) -> None:
    """Cut off, lying, something else, too large, for a file that lies nowhere: said in words, and nothing is kept."""
    running.add_app("pierboard")
    answer = running.http.request(
        "POST", f"{running.url}/api/apps/pierboard/maps?release=3.1.0&path={quote(path)}", body=gzip.compress(body),
        headers={"Content-Encoding": "gzip", "Authorization": f"Bearer {running.token}"},
    )  # fmt: skip
    assert answer.json()["slug"] == slug, answer.data
    assert running.get("/api/apps/pierboard/maps")["releases"] == []


def test_a_map_that_lies_changes_nothing_else(running: Running) -> None:
    """Sources that are not there, markup in names: places stay as they were reported, and text stays text."""
    key = running.add_app("pierboard")
    lying = map_of([[(0, 7, 0, 0), (40, 0, 2, 0)]], ["<img src=x>.ts"], sourcesContent=["a\nb"])
    build = Build(Path("/nowhere"), "page.js")
    query = urlencode({"release": "3.1.0", "path": build.file})
    headers = {"Authorization": f"Bearer {running.token}"}
    url = f"{running.url}/api/apps/pierboard/maps?{query}"
    assert running.http.request("POST", url, body=json.dumps(lying).encode(), headers=headers).status == 201
    for column in (5, 50):
        frame = {"function": "a", "file": f"{PAGE}page.js?v=2", "line": 1, "column": column}
        link = {"type": "TypeError", "message": str(column), "frames": [frame]}
        assert running.send(key, failure(exceptions=[link], release="3.1.0")).status == 200
    found = sorted(frames_of(running, issue["number"])[0]["file"] for issue in running.issues())
    assert found == ["<img src=x>.ts", f"{PAGE}page.js?v=2"]


def test_maps_outlive_a_restart_and_large_bodies_are_turned_back_too(tmp_path: Path, builds: tuple[Build, Build]) -> None:  # fmt: skip
    """A process beside the service finds the maps as the service does; a map that was changed on disk is passed over."""
    data = tmp_path / "data"
    thread, running = start(data)
    key = running.add_app("pierboard")
    send(running, builds[0], "3.1.0")
    running.http.clear()
    thread.stop()
    thread, running = start(data)
    try:
        stack = builds[0].stack("height")
        running.send(
            key, *(failure(exceptions=stack, release="3.1.0", attributes={"note": "x" * 2000}) for _ in range(80))
        )
        (issue,) = running.issues()
        assert (issue["place"], issue["failures"]) == ("src/fares.ts.Fares.surcharge", 80)
        (path,) = (data / "maps").iterdir()
        path.write_bytes(b"changed")
        running.http.clear()
        thread.stop()
        thread, running = start(data)
        running.send(key, failure(exceptions=builds[0].stack("fare"), release="3.1.0"))
        assert {one["type"] for one in running.issues()} == {"TypeError", "RangeError"}
    finally:
        running.http.clear()
        thread.stop()
