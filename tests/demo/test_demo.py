"""The ferry line: what its apps reported was recorded through the real client, and is replayed whole."""

from __future__ import annotations

import json
import re
import sqlite3
import subprocess
import sys
import uuid
from collections import Counter
from collections.abc import Iterable, Iterator
from pathlib import Path

import pytest
import zstandard

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.demo import pier, recording
from obitus.demo.replaying import moved
from obitus.demo.story import DAYS, LIVE, PLAYERS, acts_of
from obitus.service.api.compared import Releases, compare
from obitus.service.api.reproducing import reproduce_issue
from obitus.service.api.seen import seen
from obitus.service.api.since import since_answer
from obitus.service.intake.formats import KeptFailure
from obitus.service.settings import Settings
from obitus.service.wiring import Parts
from obitus.store import issues as issue_store
from obitus.store.releases import deploys as deploys_between
from tests import kept
from tests.conftest import until
from tests.demo.ferry import Shown, play
from tests.left_over import children, command_of, lives
from tests.written_tests import run_tests


def issues(folder: Path) -> dict[tuple[str, str, str], sqlite3.Row]:
    connection = sqlite3.connect(folder / "obitus.sqlite3")
    connection.row_factory = sqlite3.Row
    rows = connection.execute("SELECT apps.name AS app, issues.* FROM issues JOIN apps ON apps.id = app_id").fetchall()
    connection.close()
    return {
        (row["app"], row["type"].rpartition(".")[2], row["place"].rpartition(".")[2] + str(row["id"])): row
        for row in rows
    }


def test_the_story_is_told(loaded: Path) -> None:
    """One issue has regressed two releases later, one has only failures from older releases since, one helper has two faults, one app dies at its start."""
    found = issues(loaded)
    by_type = {(app, kind): row for (app, kind, _), row in found.items()}
    fare = by_type["sailings", "FareUnknown"]
    assert (fare["state"], fare["settled_in"], fare["cause"]) == ("regressed", "2.9.0", "KeyError")
    passes = by_type["gatekeeper", "UnicodeEncodeError"]
    assert passes["state"] == "settled" and passes["from_older_releases"] > 0
    assert sum(row["place"] == "gatekeeper.manifests.field" for row in found.values()) == 2
    assert by_type["gatekeeper", "NoOptionError"]["place"] == "gatekeeper.config.load"
    assert by_type["sailings", "TideUnavailable"]["cause"] == "TimeoutError"
    assert by_type["sailings", "SailingFull"]["failures"] > 20, "ids in its messages do not split it"
    assert by_type["sailings", "RecursionError"]["state"] == "untriaged"
    assert 16 <= len(found) <= 20


@pytest.fixture(scope="module")
def service(loaded: Path) -> Iterator[Parts]:
    made = Parts(Settings(data=loaded, port=0))
    yield made
    made.close()


def test_every_verdict_occurs(loaded: Path, service: Parts) -> None:
    """Held, too early, rarer, back; a fix that reveals the next fault; a rate that climbs with one release, and the commit that did it."""
    rows = [row for row in issues(loaded).values() if not row["place"].startswith("gatekeeper.manifests.total_weight")]
    numbers = {f"{row['type'].rpartition('.')[2]} {row['state']}": row["id"] for row in rows}
    since = {name: since_answer(service.records, service.clock, number) for name, number in numbers.items()}
    verdicts = {name: [held.verdict for held in found.verdicts] for name, found in since.items()}
    assert verdicts["UnicodeEncodeError settled"] == verdicts["ValueError settled"] == ["held"]
    assert verdicts["KeyError settled"] == verdicts["MailRefused settled"] == ["too early to say"]
    assert verdicts["TideUnavailable regressed"] == ["still there but rarer"]
    assert verdicts["FareUnknown regressed"] == ["regressed"]
    (revealed,) = since["ValueError settled"].revealed
    assert revealed.issue.number == numbers["ValueError untriaged"]
    assert any(rate.release == "3.0.0" for rate in since["TideUnavailable regressed"].rate_regressions)
    first = {
        name: [change.commits[0].commit.subject for change in found.changes if change.commits]
        for name, found in since.items()
    }
    assert "Wait less long for the tide service" in first["TideUnavailable regressed"]
    assert "Offer trailers" in first["FareUnknown regressed"]
    assert first["KeyError untriaged"] == ["Announce piers by their names"]


def test_each_call_fails_again_and_the_fix_mends_it(loaded: Path, service: Parts, tmp_path: Path) -> None:
    """The test that is made of an issue fails as the app did, unedited, in the release that reported it; the regressed fare passes with its fix."""
    by_release: dict[str, dict[str, tuple[str, str, str]]] = {}
    of_services = {at: row for at, row in issues(loaded).items() if ".ts." not in row["place"]}
    for (_, kind, _), row in of_services.items():
        test = reproduce_issue(service.records, row["id"])
        failure = service.records.evidence.content(
            issue_store.failure_with_id(service.records.reader, uuid.UUID(test.failure).bytes).seq
        )
        assert failure is not None
        frame = next(frame for link in failure["exceptions"] for frame in reversed(link["frames"]) if "call" in frame)
        release = frame["file"].split("/deploys/")[1].split("/")[0]
        place = f"{frame['file'].split(release + '/')[1]}:{frame['line']}"
        by_release.setdefault(release, {})[f"test_issue_{row['id']}.py"] = test.text, kind, place
        if kind == "FareUnknown":
            assert not test.missing
            mended = {"test_fare.py": test.text}, {"test_expects.py": reproduce_issue(service.records, row["id"], "expects").text}  # fmt: skip
    said: dict[str, str] = {}
    for release, tests in by_release.items():
        texts = {name: text for name, (text, _, _) in tests.items()}
        done = run_tests(tmp_path, texts, loaded / "deploys" / release)
        said |= parts_of(done.stdout, texts)
    again = [
        kind
        for tests in by_release.values()
        for name, (_, kind, place) in tests.items()
        if kind in said[name] and place in said[name]
    ]
    # Two ask services that are not there.
    assert len(again) >= len(of_services) - 2
    assert "FareUnknown" in again and any("no fare for a campervan with trailer" in one for one in said.values())
    fails, expects = mended
    after = loaded / "deploys" / "3.1.1"
    assert run_tests(tmp_path, fails, after).returncode == 0, "the fix is not deployed yet; its tree lies ready"
    assert run_tests(tmp_path, expects, loaded / "deploys" / "3.1.0").returncode == 0
    assert run_tests(tmp_path, expects, after).returncode == 1


def parts_of(output: str, names: Iterable[str]) -> dict[str, str]:
    """Return what pytest said of the failed tests of each file."""
    found = dict.fromkeys(names, "")
    for part in re.split(r"^_{3,} .* _{3,}$", output, flags=re.MULTILINE)[1:]:
        part = part.partition("short test summary info")[0]
        for name in found:
            if f"{name}:" in part:
                found[name] += part
    return found


def test_what_is_kept_is_what_the_api_describes(service: Parts) -> None:
    """Every failure of the two weeks, as it lies in the store after hiding, fits the model that the API's answers are described by."""
    checked = 0
    for report in kept.reports(service, "failure"):
        KeptFailure.model_validate_json(json.dumps(report))
        checked += 1
    assert checked > 400


def test_releases_deploys_and_a_canary(service: Parts) -> None:
    """Six releases in order, a rollback, an hour in which two were live, and a first deploy that nobody reported."""
    known = Releases(service.records, "sailings")
    assert [release.version for release in known.order.releases] == list(LIVE)
    deploys = deploys_between(service.records.reader, 0, 2**60, "sailings", None)
    assert [(row.version, row.canary, row.inferred) for row in reversed(deploys)] == [
        ("2.8.0", 0, 1), ("2.9.0", 0, 0), ("2.9.1", 0, 0), ("3.0.0", 0, 0), ("2.9.1", 0, 0), ("3.0.1", 0, 0), ("3.1.0", 1, 0), ("3.1.0", 0, 0)
    ]  # fmt: skip
    found = compare(known, "3.0.1", "3.1.0", "production", same_time=True)
    assert found.hours >= 1 and found.now.runs > 100 and found.counts["new"] == 1


def test_a_failure_crosses_three_apps(loaded: Path) -> None:
    """One trace from the page on the pier through sailings to the gate, failing in each."""
    connection = sqlite3.connect(loaded / "obitus.sqlite3")
    rows = connection.execute(
        "SELECT COUNT(DISTINCT app_id) FROM failures WHERE trace_id IS NOT NULL GROUP BY trace_id"
    )
    assert max(count for (count,) in rows) == 3
    connection.close()


def test_every_failure_is_a_real_one(loaded: Path) -> None:
    """Each failure was raised by the line's own code: its innermost own frame is a line of that code."""
    connection = sqlite3.connect(loaded / "obitus.sqlite3")
    count = connection.execute("SELECT COUNT(*) FROM failures").fetchone()[0]
    assert count == connection.execute("SELECT SUM(failures) FROM issue_counts").fetchone()[0] > 400
    assert connection.execute("SELECT COUNT(*) FROM issues WHERE place NOT GLOB '*.*'").fetchone()[0] == 0
    connection.close()
    for place in {row["place"] for row in issues(loaded).values()}:
        if ".ts." in place:
            file = f"pierboard/web/{place.partition('.ts.')[0]}.ts"
            assert any((loaded / "deploys" / release / file).exists() for release in LIVE), place
            continue
        app, module = place.split(".")[:2]
        assert any((loaded / "deploys" / release / app / f"{module}.py").exists() for release in LIVE), place


def test_the_page_on_the_pier(loaded: Path, service: Parts) -> None:
    """A minified fault in two builds is one issue, at the line that people wrote; what was typed and did not arrive is said; nobody's network is there later."""
    of_page = {row["place"]: row for row in issues(loaded).values() if ".ts." in row["place"]}
    assert {place: row["failures"] for place, row in of_page.items()} == {
        "lib/tariff.ts.Tariff.surcharge": 4,
        "lib/board.ts.Board.send": 1,
    }
    reports = [
        one
        for one in kept.reports(service, "failure")
        if one["exceptions"][0]["message"].endswith("(reading 'metres')")
    ]
    assert {one["release"] for one in reports} == {"3.0.1", "3.1.0"}
    assert len({one["exceptions"][0]["frames"][-1]["built"]["file"] for one in reports}) == 2
    refused = [
        one for one in kept.reports(service, "run") if one["run"]["outcome"] == "refused" and one.get("sketches")
    ]
    said = [seen(service.records, one["trace_id"]).said for one in refused]
    assert (
        said
        == [
            [
                "“Vehicle height in metres” was filled on the page; in what sailings received, vehicle_height_m was empty."
            ]
        ]
        * 4
    )


def test_the_page_is_the_one_that_was_recorded() -> None:
    """The source that its maps hold is that of the line; else `make demo-reports` is due."""
    line = Path(recording.__file__).parent / "line"
    for release, maps in pier.read().maps.items():
        (text,) = maps.values()
        known = json.loads(text)
        for source, content in zip(known["sources"], known["sourcesContent"], strict=True):
            name = source.partition("/pierboard/web/")[2]
            trees = [line / one / "pierboard" / "web" / name for one in ("3.0.1", "3.1.0") if one <= release]
            assert content == [tree for tree in trees if tree.exists()][-1].read_text(), source


def comparable(line: bytes) -> bytes:
    """Return a line of a recording without what depends on the version of Python that played it."""
    player, day, text = line.split(b" ", 2)
    report = json.loads(text)
    report.get("attributes", {}).pop("process.runtime.version", None)
    for error in report.get("exceptions", ()):
        error["frames"] = [frame for frame in error["frames"] if frame["own"]]
    return b"%s %s %s" % (player, day, json.dumps(report, sort_keys=True).encode())


@pytest.mark.timeout(600)
def test_the_apps_still_report_what_was_recorded() -> None:
    """Run again under the real client, each for two days, they report the same, down to the ids; else `make demo-reports` is due."""
    lines = zstandard.ZstdDecompressor().decompress(recording.FILE.read_bytes()).splitlines(keepends=True)
    kept = [line for line in lines if days_into(line) < 2]
    assert len(kept) > 20_000
    again = recording.record(lambda _: None, most_days=2)
    assert Counter(map(comparable, again)) == Counter(map(comparable, kept))


def days_into(line: bytes) -> int:
    """Return how many days its player had played before a line of a recording."""
    player, day, _ = line.split(b" ", 2)
    return int(day) - PLAYERS[int(player)].first_day


def test_times_are_moved_in_times_and_ids_alone() -> None:
    """A moment and the id of a report move by the same; whatever else looks like one stays."""
    body = b'{"time": "2026-01-01T00:05:36.775Z", "id": "019b76df-cb87-7c3a-bc46-120ebafb368d", "message": "at 2026-01-01T00:05:36.775Z", "trace_id": "aaf288c013d78485001f40911d336fb4"}\n'
    after = json.loads(moved(body, 3_600_000))
    assert after["time"] == "2026-01-01T01:05:36.775Z"
    assert int(after["id"].replace("-", "")[:12], 16) - int("019b76dfcb87", 16) == 3_600_000
    assert after["id"][14:] == "7c3a-bc46-120ebafb368d"
    assert after["message"] == "at 2026-01-01T00:05:36.775Z" and after["trace_id"].startswith("aaf288c0")
    assert moved(moved(body, 5), -5) == body


def test_traffic_follows_from_the_seed() -> None:
    """Acts of a day are in order, inside the day, and depend on nothing but seed, player and day."""
    for player in PLAYERS:
        for day in range(player.first_day, player.end_day):
            acts = list(acts_of(player, day, 0))
            assert acts == list(acts_of(player, day, 0)) and acts == sorted(acts, key=lambda act: act.time_ms)
            assert all(
                day * DAY_MS <= act.time_ms < (day + 1) * DAY_MS and player.runs_at(act.time_ms / HOUR_MS)
                for act in acts
            )
    assert max(player.end_day for player in PLAYERS) == DAYS


def test_a_folder_with_something_else_in_it_is_left_alone(tmp_path: Path) -> None:
    """The demo removes its own records only."""
    (tmp_path / "catch.txt").write_text("herring")
    ended = play(tmp_path)
    assert ended.returncode == 1 and "not a demo" in ended.stderr and (tmp_path / "catch.txt").exists()


def test_it_prints_one_link_that_works(shown: Shown) -> None:
    """`obitus demo` ends its loading with one link; the link signs in; Ctrl-C ends it cleanly."""
    assert shown.desk["regressed"] and shown.desk["new"] and shown.desk["most_failures"]
    assert shown.login_url == shown.url and shown.status == 0


def test_players_end_with_the_recording() -> None:
    """A recording that is killed leaves none of the apps behind."""
    recorder = subprocess.Popen([sys.executable, "-c", "from obitus.demo.recording import record; record(print)"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
    try:
        until(lambda: any("obitus.demo.play" in command_of(one) for one in children(recorder.pid)), 60)
        players = [one for one in children(recorder.pid) if "obitus.demo.play" in command_of(one)]
        recorder.kill()
        until(lambda: not any(lives(one) for one in players), 60)
    finally:
        recorder.kill()
        recorder.wait()
