"""The console in a real browser: what is shown, what the keyboard does, what turns by itself, and that all can use it."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.conftest import Running, failure, now_text, raised_in
from tests.end_to_end.browsing import at, axe, context_in, usable, walk
from tests.service.test_releases import at as hours_ago
from tests.service.test_releases import failed, send, tally


def fill(running: Running) -> str:
    """Three issues of one app, one of them back; return its key."""
    key = running.add_app()
    trail = [
        {
            "kind": "log",
            "time": now_text(),
            "severity": "WARN",
            "message": "no place left",
            "attributes": {"logger": "x"},
        },
        {"kind": "mark", "time": now_text(), "message": "places counted", "attributes": {"taken": 62}},
    ]
    chain = raised_in("sailings.fares", "surcharge", "sailings.fares.FareUnknown", "no fare for a campervan")
    frames = chain[0]["frames"]
    frames[0] |= {
        "own": True,
        "source": {"before": ["try:"], "line": "    return PENCE[kind]", "after": ["except KeyError:"]},
        "locals": {"kind": "'campervan'", "password": "x"},
    }
    frames.insert(
        0, {"function": "run", "module": "starlette.routing", "file": "/x/site-packages/r.py", "line": 9, "own": False}
    )
    running.send(key, failure(exceptions=chain, trail=trail, release="2.8.0", attributes={"user.id": "p-102"}))
    running.ask("POST", "/api/issues/1/settle", {"release": "2.9.0"})
    running.send(key, failure(exceptions=chain, trail=trail, release="2.9.0"))
    running.send(key, failure(exceptions=raised_in("sailings.tides", "read", "TimeoutError", "no answer")))
    running.send(key, failure(exceptions=raised_in("sailings.mail", "hand_over", "MailRefused", "<b>451</b>")))
    return key


def test_desk(page: Page, running: Running) -> None:
    """The desk shows what regressed, what is new and what fails most, and a new failure appears without a reload."""
    key = fill(running)
    at(page, running, "/")
    regressed = page.get_by_role("list", name="Regressed")
    expect(regressed.get_by_role("link", name="FareUnknown in sailings.fares.surcharge")).to_be_visible()
    expect(page.get_by_role("list", name="New").get_by_role("listitem")).to_have_count(2)
    running.send(key, failure(exceptions=raised_in("sailings.app", "board", "GangwayUp")))
    expect(page.get_by_role("link", name="GangwayUp in sailings.app.board").first).to_be_visible()
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="FareUnknown in sailings.fares.surcharge")).to_be_visible()


def test_the_sentence_is_the_filter(page: Page, running: Running) -> None:
    """Each part of the sentence narrows every page, stands in the address, and holds from page to page."""
    fill(running)
    running.send(running.add_app("gatekeeper", "staging"), failure(exceptions=raised_in("gate", "open", "GateStuck")))
    at(page, running, "/issues")
    rows = page.get_by_role("list", name="Issues").get_by_role("listitem")
    expect(rows).to_have_count(4)
    page.get_by_label("App", exact=True).select_option("gatekeeper")
    expect(rows).to_have_count(1)
    assert "app=gatekeeper" in page.url
    page.get_by_role("link", name="Desk", exact=True).click()
    assert "app=gatekeeper" in page.url
    page.reload()
    expect(page.get_by_label("App", exact=True)).to_have_value("gatekeeper")
    page.get_by_label("Environment", exact=True).select_option("production")
    expect(page.get_by_text("Nothing failed in this window.")).to_be_visible()


def test_issues_by_keyboard(page: Page, running: Running) -> None:
    """Move, search, accept, park and settle without a mouse; `?` lists the keys."""
    fill(running)
    at(page, running, "/issues?sort=first-seen")
    rows = page.get_by_role("list", name="Issues").get_by_role("listitem")
    expect(rows).to_have_count(3)
    page.keyboard.press("a")
    expect(page.get_by_text("Issue 3 is accepted. r takes it back.")).to_be_visible()
    expect(rows.first).to_contain_text("accepted")
    page.keyboard.press("j")
    page.keyboard.press("p")
    expect(page.get_by_role("dialog").locator(":focus")).to_have_count(1)
    page.keyboard.press("Enter")
    expect(rows.nth(1)).to_contain_text("parked")
    page.keyboard.press("s")
    expect(page.get_by_label("The release with the fix")).to_have_value("2.9.0")
    # The dialog takes the focus a moment after it is shown.
    expect(page.get_by_role("dialog").locator(":focus")).to_have_count(1)
    page.keyboard.press("Enter")
    expect(rows.nth(1)).to_contain_text("settled in 2.9.0")
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("Settle the issue")
    assert axe(page) == []
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_be_hidden()
    page.keyboard.press("/")
    expect(page.get_by_role("searchbox")).to_be_focused()
    page.keyboard.type("campervan")
    page.keyboard.press("Enter")
    expect(rows).to_have_count(1)


def test_a_time_says_in_full_when_it_was(page: Page, running: Running) -> None:
    """The list says how long ago; where the pointer rests it says when, until it leaves."""
    fill(running)
    at(page, running, "/")
    page.get_by_role("link", name="Issues", exact=True).click()
    hint = page.get_by_role("tooltip")
    expect(hint).to_have_count(0)
    page.get_by_text(re.compile(r"\ds ago|\d s ago")).first.hover()
    expect(hint).to_have_text(re.compile(r"^[A-Z][a-z]{2} \d+ [A-Z][a-z]{2}, \d\d:\d\d$"))
    page.get_by_role("heading", name="Issues").hover()
    expect(hint).to_have_count(0)


def test_an_issue_reads_as_a_report(page: Page, running: Running) -> None:
    """The headings stand in their order; own frames are open, library frames folded, secrets hidden."""
    fill(running)
    at(page, running, "/issues/1")
    expect(page.get_by_role("heading", name="Perhaps the same as")).to_be_visible()
    headings = page.get_by_role("heading", level=2).all_text_contents()
    assert headings == ["What failed", "What now", "Where", "Leading up to it", "Do it again", "Since when", "Who and what", "What we know", "Earlier issues like it", "Why this is one issue", "Perhaps the same as", "Settle it"][: len(headings)]  # fmt: skip
    expect(page.get_by_text("return PENCE[kind]").first).to_be_visible()
    expect(page.get_by_text("'campervan'", exact=True)).to_be_visible()
    expect(page.get_by_text("[hidden: password]")).to_be_visible()
    expect(page.get_by_text("starlette.routing.run")).to_be_hidden()
    page.keyboard.press("o")
    expect(page.get_by_text("starlette.routing.run")).to_be_visible()
    expect(page.get_by_text("places counted")).to_be_visible()
    expect(page.get_by_text("Regressed: seen in 2.9.0, the release it was settled in.")).to_be_visible()
    page.keyboard.press("h")
    expect(page.get_by_text("One failure,")).to_be_visible()
    assert re.search(r"failure=[0-9a-f-]{36}", page.url)
    page.get_by_role("button", name="Settle …").click()
    page.get_by_label("The release with the fix").fill("3.0.0")
    page.get_by_role("button", name="Settle", exact=True).click()
    expect(page.get_by_text("owner settled it as fixed from 3.0.0 on.")).to_be_visible()


def test_reports_are_never_markup(page: Page, running: Running) -> None:
    """Whatever stands in a report is shown as text, wherever it is shown."""
    nasty = "<img src=x onerror=\"document.title='owned'\"><script>document.title='owned'</script>"
    chain = raised_in(nasty, nasty, nasty, nasty)
    chain[0]["frames"][0] |= {"file": nasty, "locals": {nasty: nasty}, "source": {"line": nasty}}
    crumb = {"kind": "log", "time": now_text(), "message": nasty, "attributes": {nasty: nasty}}
    request = {"method": "GET", "url": f"javascript:{nasty}", "headers": [[nasty, nasty]]}
    run = {"entry_point": nasty}
    running.send(running.add_app(), failure(exceptions=chain, trail=[crumb], request=request, run=run, release=nasty, attributes={nasty: nasty}))  # fmt: skip
    for path in ("/", "/issues", "/issues/1"):
        at(page, running, path)
        expect(page.locator("main").get_by_text("onerror").first).to_be_visible()
        assert page.locator("main img, main script").count() == 0
        assert page.title().endswith(" · Obitus")


def test_set_up_waits_and_turns(page: Page, running: Running, tmp_path: Path) -> None:
    """A new app's page shows the lines, waits, says what is refused, and turns when a real program reports."""
    at(page, running, "/set-up")
    page.get_by_label("Name: lower case").fill("net-loft")
    page.get_by_label("Kind").select_option("script")
    page.get_by_role("button", name="Add and make a key").click()
    expect(page.get_by_text("Waiting for the first report")).to_be_visible()
    shown = page.locator("pre").all_text_contents()
    settings = dict(line.removeprefix("export ").split("=", 1) for line in shown[0].splitlines())
    running.send(settings["OBITUS_KEY"], b'{"kind": "poem"}')
    expect(page.get_by_text("Something arrived and was refused")).to_be_visible()
    script = tmp_path / "mend.py"
    script.write_text(f"{shown[2]}\nraise OSError('the net is torn')\n")
    subprocess.run([sys.executable, str(script)], env=os.environ | settings, capture_output=True, timeout=150)
    expect(page.get_by_text("The first report arrived")).to_be_visible()
    assert axe(page) == []
    page.get_by_role("link", name="See the issues").click()
    expect(page.get_by_role("link", name="OSError in mend.<module>")).to_be_visible()


@pytest.mark.parametrize(
    ("kind", "line"), [("flask", "obitus.WsgiMiddleware"), ("command", "obitus run --"), ("django", "wsgi.py")]
)
def test_set_up_of_each_kind_says_what_is_wrong(page: Page, running: Running, kind: str, line: str) -> None:
    """The lines are those of this kind; a key of nobody's, a clock that is off and a revoked key are each named."""
    at(page, running, "/set-up")
    page.get_by_label("Name: lower case").fill("net-loft")
    page.get_by_label("Kind").select_option(kind)
    page.get_by_role("button", name="Add and make a key").click()
    expect(page.get_by_text(line).first).to_be_visible()
    running.send("okey_" + "x" * 40, failure())
    expect(page.get_by_text("a report came with a key that no app has")).to_be_visible()
    key = re.findall(r"okey_\S+", page.locator("pre").first.text_content() or "")[0]
    wrong = "2026-01-01T00:00:00Z"
    running.send(key, failure(time=wrong), headers={"Obitus-Clock": wrong})
    expect(page.get_by_text("The app's clock is")).to_be_visible()
    expect(page.get_by_text("The first report arrived")).to_be_visible()
    number = running.get("/api/apps/net-loft")["keys"][0]["id"]
    running.ask("DELETE", f"/api/apps/net-loft/keys/{number}")
    running.send(key, failure())
    expect(page.get_by_text("Something arrived and was refused")).to_be_visible()
    assert axe(page) == []


def test_hide_a_name(page: Page, running: Running) -> None:
    """A redaction rule is seen at work before it is kept, and can be ended."""
    running.send(running.add_app(), failure(attributes={"vessel_pin": "7741"}))
    at(page, running, "/set-up")
    page.get_by_label("A redaction rule").fill("name vessel pin")
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_text("it would have hidden 1 value")).to_be_visible()
    expect(page.get_by_text("7741 → [hidden: vessel pin]")).to_be_visible()
    assert axe(page) == []
    page.get_by_role("button", name="Hide it from now on").click()
    expect(page.get_by_role("button", name="End name vessel pin")).to_be_visible()
    page.get_by_label("A redaction rule").fill("nonsense")
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_role("alert")).to_contain_text("is no redaction rule")
    page.get_by_role("button", name="End name vessel pin").click()
    expect(page.get_by_role("button", name="End name vessel pin")).not_to_be_visible()
    assert running.get("/api/redaction-rules")["rules"] == []


def two_faults(running: Running) -> None:
    """Two issues that are near each other, the first with failures of two piers."""
    key = running.add_app()

    def raised(code: str, pier: str) -> dict[str, Any]:
        frame = {
            "function": "quote",
            "module": "fares",
            "file": "/srv/fares.py",
            "line": 7,
            "own": True,
            "source": {"line": code},
        }
        return failure(
            exceptions=[{"type": "KeyError", "message": "'x'", "frames": [frame]}], attributes={"pier": pier}
        )

    running.send(
        key,
        *(raised("return fares[kind]", pier) for pier in ("eastholm", "eastholm", "merrow")),
        raised("return fares[pier]", "merrow"),
    )


def test_merge_split_and_undo(page: Page, running: Running) -> None:
    """What may be the same is shown with the reason; a step is looked at first, its progress told, and undone."""
    two_faults(running)
    at(page, running, "/issues/1")
    expect(page.get_by_role("heading", name="Why this is one issue")).to_be_visible()
    expect(page.get_by_text("the same type in the same function, on another line of code")).to_be_visible()
    page.get_by_role("button", name="Merge with 2").click()
    expect(page.get_by_text("3 failures would go to issue 2, which then has 4")).to_be_visible()
    page.get_by_role("button", name="Merge into 2").click()
    expect(page.get_by_text("3 failures moved")).to_be_visible()
    expect(page.get_by_text("It was merged into issue 2")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("Undone:")).to_be_visible()
    expect(page.get_by_text("It was merged into")).to_have_count(0)
    page.get_by_label("Split by").select_option("pier")
    page.get_by_role("button", name="Preview").last.click()
    expect(page.get_by_text("2 · eastholm")).to_be_visible()
    page.get_by_role("button", name="Split it").click()
    expect(page.get_by_text("1 failure moved")).to_be_visible()
    page.get_by_role("button", name="Keep apart").first.click()
    expect(page.get_by_text("stay apart")).to_be_visible()
    assert axe(page) == []


def test_grouping_rules(page: Page, running: Running) -> None:
    """A rule shows what it would do before it is active; history moves when it is regrouped."""
    two_faults(running)
    at(page, running, "/set-up/rules")
    draft = page.get_by_label("A grouping rule")
    draft.fill("type=KeyError")
    page.get_by_role("button", name="Preview", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("nothing that a rule does")
    draft.fill("together when type=KeyError")
    page.get_by_role("button", name="Preview", exact=True).click()
    expect(page.get_by_text("4 match and 1 would change their issue")).to_be_visible()
    page.get_by_role("button", name="Use this rule").click()
    expect(page.get_by_role("button", name="Stop rule 1")).to_be_visible()
    page.get_by_label("All failures of").select_option("sailings")
    page.get_by_role("button", name="Preview past failures").click()
    page.get_by_role("button", name="Regroup past failures of sailings").click()
    expect(page.get_by_role("button", name="Undo 1")).to_be_visible()
    assert axe(page) == []
    page.get_by_role("button", name="Stop rule 1").click()
    expect(page.get_by_text("Obitus groups by where the fault is")).to_be_visible()


def test_a_request_with_its_body(page: Page, running: Running) -> None:
    """A captured body is there to be unfolded, as text and nothing else; what its type tells stands with the exception."""
    body = {"type": "application/json", "bytes": 40, "json": {"height": "<img src=x onerror=alert(1)>"}}
    files = {
        "type": "multipart/form-data",
        "bytes": 9,
        "form": [["name", "Ida"]],
        "files": [{"name": "scan", "file": "p.png", "type": "image/png", "bytes": 9}],
    }
    chain = raised_in("m", "f", "OSError", "no tide")
    chain[0]["detail"] = {"errno": 2, "filename": "/no/such/tide"}
    report = failure(
        exceptions=chain, request={"method": "POST", "url": "http://ferry/x", "body": body, "answer_body": files}
    )
    assert running.send(running.add_app(), report).json()["stored"] == 1
    at(page, running, "/issues/1")
    page.get_by_text("body, application/json, 40 bytes").click()
    expect(page.get_by_text("<img src=x onerror=alert(1)>")).to_be_visible()
    page.get_by_text("answer's body, multipart/form-data").click()
    expect(page.get_by_text("p.png, image/png, 9 bytes, not kept")).to_be_visible()
    expect(page.get_by_text("errno = 2, filename = /no/such/tide")).to_be_visible()
    assert axe(page) == []


def test_keys_tokens_and_password(page: Page, running: Running) -> None:
    """Keys and tokens are shown once and revoked for good; a password is set."""
    running.add_app()
    at(page, running, "/set-up")
    card = page.get_by_role("article", name="sailings")
    card.get_by_role("button", name="Revoke …").click()
    card.get_by_role("button", name="Revoke it for good").click()
    expect(card).to_contain_text("revoked")
    page.get_by_label("What the token is for").fill("laptop")
    page.get_by_role("button", name="Make a token").click()
    expect(page.get_by_text("otok_").last).to_be_visible()
    expect(page.get_by_text("may read and decide about issues; ends")).to_be_visible()
    expect(page.get_by_text("This browser")).to_be_visible()
    card.get_by_label("Environment of another key").fill("staging")
    card.get_by_role("combobox", name="What another key").select_option("deploy")
    card.get_by_role("button", name="Make another key").click()
    expect(card).to_contain_text("may deploy")
    page.get_by_label("New password").fill("the tide waits for nobody")
    page.get_by_role("button", name="Set the password").click()
    expect(page.get_by_text("The password is set; all")).to_be_visible()
    page.get_by_label("Show").select_option("made token")
    expect(page.get_by_text("laptop: may decide, for 365 days")).to_be_visible()
    assert axe(page) == []
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    page.get_by_label("Password").fill("the tide waits for nobody")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="Set-up")).to_be_visible()


@pytest.mark.parametrize(
    "path",
    [
        "/",
        "/person",
        "/issues",
        "/issues/1",
        "/set-up",
        "/set-up/rules",
        "/issues/99",
        "/issues?question=nothing",
        "/releases",
        "/releases/sailings/2.9.0",
        "/releases/sailings/9.9.9",
        "/compare/sailings?before=2.8.0&now=2.9.0",
        "/shift?window=24h",
        "/set-up/hand-over",
    ],
)
def test_everybody_can_use_it(page: Page, running: Running, path: str) -> None:
    """Whatever the page, the light and the width."""
    fill(running)
    at(page, running, path)
    expect(page.get_by_text("● live")).to_be_visible()
    expect(page.get_by_text("Loading …")).to_have_count(0)
    usable(page, walks=False)


def test_sign_in_page(browser: Browser, running: Running) -> None:
    """Nobody sees anything before signing in; a used link says so; the page itself is usable by all."""
    context = context_in(browser)
    opened = context.new_page()
    opened.goto(running.url + "/issues")
    expect(opened.get_by_label("Password")).to_be_visible()
    assert axe(opened) == []
    link = running.service.passes.new_sign_in_link()
    opened.goto(link)
    expect(opened.get_by_role("heading", name="Desk")).to_be_visible()
    assert "#" not in opened.url
    context.clear_cookies()
    opened.goto(link)
    expect(opened.get_by_role("alert")).to_contain_text("used already")
    context.close()


def test_a_page_that_cannot_be_loaded(page: Page, running: Running) -> None:
    """While the service is away, or after an upgrade took a page's file away, the console says so, and what to do."""
    fill(running)
    # Before the first page is opened: what an open page asks for right after may still go by untouched.
    page.route("**/assets/Releases-*.js", lambda route: route.abort())
    at(page, running, "/issues")
    expect(page.get_by_role("heading", name="Issues")).to_be_visible()
    page.keyboard.press("5")
    expect(page.get_by_role("alert")).to_contain_text("This page could not be loaded")
    assert axe(page) == []
    page.keyboard.press("2")
    expect(page.get_by_role("heading", name="Issues")).to_be_visible()
    page.keyboard.press("5")
    reload = page.get_by_role("alert").get_by_role("button", name="Reload")
    expect(reload).to_be_visible()
    page.unroute("**/assets/Releases-*.js")
    reload.click()
    expect(page.get_by_role("heading", name="Releases")).to_be_visible()


def test_a_page_that_is_opened_while_the_service_is_away(page: Page, running: Running) -> None:
    """Who is signed in is still so once the service answers: the page goes on by itself."""
    fill(running)
    page.route("**/api/me", lambda route: route.fulfill(status=502))
    at(page, running, "/issues")
    expect(page.get_by_role("alert")).to_contain_text("The service answered with status 502.")
    page.unroute("**/api/me")
    expect(page.get_by_role("heading", name="Issues")).to_be_visible()
    expect(page.get_by_text("● live")).to_be_visible()


def test_empty_service_says_what_to_do(page: Page, running: Running) -> None:
    """With no app yet, the desk leads to set-up."""
    at(page, running, "/")
    page.get_by_role("link", name="Add your first app").click()
    expect(page.get_by_role("heading", name="Add an app")).to_be_visible()


def test_from_releases_to_what_one_brought(page: Page, running: Running) -> None:
    """The list, a release's own page, two compared, and the way to the issue; by links, and by what the address says."""
    key = running.add_app(may_deploy=True)
    send(running, key, tally("2.9.0", 9000, 30), tally("3.0.0", 4000, 2), tally("3.0.0", 90, 2, outcome="failed"))
    send(running, key, *(failed("3.0.0", 1.9, "sailings.fresh") for _ in range(9)))
    running.ask("POST", "/api/deploys", {"release": "3.0.0", "time": hours_ago(2.2)}, token=key)
    at(page, running, "/")
    expect(page.get_by_role("heading", name="Desk")).to_be_visible()
    page.keyboard.press("5")
    table = page.get_by_role("table", name="Releases of sailings")
    row = table.get_by_role("row").filter(has_text="3.0.0")
    expect(row).to_contain_text("● live")
    expect(row).to_contain_text("1 new")
    expect(table.get_by_role("row").nth(1)).to_contain_text("3.0.0")
    row.get_by_role("link", name="3.0.0").click()
    expect(page.get_by_role("heading", name="First seen in it")).to_be_visible()
    expect(page.get_by_role("img", name=re.compile("4,090 runs, 90 failed runs"))).to_be_visible()
    expect(page.get_by_text("obitus release add 3.0.0 --app sailings --git PATH")).to_be_visible()
    page.get_by_role("link", name="Compare with 2.9.0").click()
    expect(page.get_by_text("3.0.0 against 2.9.0: 1 new")).to_be_visible()
    expect(page.get_by_text("worse", exact=False).first).to_be_visible()
    page.get_by_role("link", name=re.compile("TideUnavailable")).click()
    expect(
        page.get_by_text(re.compile("First in 3.0.0, 1[78] minutes after its deploy to production; none in 2.9.0"))
    ).to_be_visible()
    page.go_back()
    page.get_by_role("link", name="Swap the two").click()
    expect(page.get_by_text("2.9.0 is the older of the two.")).to_be_visible()
    page.get_by_role("link", name="Releases", exact=True).first.click()
    page.get_by_role("button", name="Compare").click()
    expect(page.get_by_role("heading", name="3.0.0 against 2.9.0")).to_be_visible()


def test_a_fix_is_followed(page: Page, running: Running) -> None:
    """Settled as fixed from the coming release from the page; when that comes and traffic with it, the page says that it held, by itself."""
    key = running.add_app()
    running.ask("POST", "/api/apps/sailings/keys", {"environment": "staging"})
    send(running, key, tally("3.0.0", 9000, 30), *(failed("3.0.0", 30) for _ in range(12)))
    at(page, running, "/issues/1")
    page.get_by_role("button", name="Settle …").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("The coming release").check()
    expect(dialog.get_by_label("The release with the fix")).to_be_hidden()
    assert axe(page) == []
    dialog.get_by_role("button", name="Settle", exact=True).click()
    expect(page.get_by_text("owner settled it as fixed from the coming release on.")).to_be_visible()
    expect(page.get_by_text("The coming release has not come yet")).to_be_visible()
    send(running, key, tally("3.1.0", 9000, -0.05))
    expect(page.get_by_text("The coming release is here: 3.1.0. It should have the fix.")).to_be_visible()
    expect(page.get_by_text("No failure in 9,000 runs since 3.1.0")).to_be_visible()
    expect(page.get_by_text("● has the fix")).to_be_visible()
    page.get_by_role("button", name="Settle …").click()
    dialog.get_by_label("Now, whatever the release").check()
    dialog.get_by_label("Where").select_option("production")
    dialog.get_by_role("button", name="Settle", exact=True).click()
    expect(page.get_by_text("Did the fix hold in production?")).to_be_visible()


def test_deploys_are_marked_on_charts(page: Page, running: Running) -> None:
    """Every chart over time says which deploys fall into it."""
    key = running.add_app()
    send(running, key, failed("3.0.0", 5))
    at(page, running, "/issues?window=7d")
    expect(page.get_by_role("img", name="1 failure over the window; deploys: 3.0.0 in production")).to_be_visible()


def test_keyboard_and_titles(page: Page, running: Running) -> None:
    """Each page has its title; Tab leads past the bar to the content; a link puts the keyboard on the new page."""
    fill(running)
    titles = {
        "/": "Desk", "/issues": "Issues", "/issues/1": "1: FareUnknown in sailings.fares.surcharge", "/releases": "Releases",
        "/releases/sailings/3.0.0": "sailings 3.0.0", "/set-up": "Set-up", "/set-up/rules": "Grouping rules",
    }  # fmt: skip
    for path, title in titles.items():
        page.goto(running.url + path)
        expect(page).to_have_title(f"{title} · Obitus")
        page.keyboard.press("Tab")
        expect(page.get_by_role("link", name="Skip to the content")).to_be_focused()
        page.keyboard.press("Enter")
        expect(page.locator("main")).to_be_focused()
    page.goto(running.url + "/issues")
    page.get_by_role("link", name="FareUnknown in sailings.fares.surcharge").click()
    expect(page.locator("main")).to_be_focused()
    expect(page).to_have_title(re.compile("FareUnknown"))


@pytest.mark.parametrize(
    "path",
    ["/", "/issues", "/issues/1", "/releases", "/releases/sailings/2.9.0", "/compare/sailings?before=2.8.0&now=2.9.0", "/set-up", "/set-up/rules", "/issues/twelve"],
)  # fmt: skip
def test_the_keyboard_walks_through_every_page(page: Page, running: Running, path: str) -> None:
    """Tab alone comes to everything that can be done, in order, shows where it is, and leads out again."""
    fill(running)
    page.goto(running.url + path)
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    expect(page.get_by_text("Loading …")).to_have_count(0)
    expect(page.get_by_text("● live")).to_be_visible()
    walk(page)


def test_keys_of_one_character_can_be_switched_off(page: Page, running: Running) -> None:
    """Somebody who dictates must not accept an issue with a word; the choice stays, and the way back is a button."""
    fill(running)
    before = running.get("/api/issues/1")["state"]
    page.goto(running.url + "/issues/1")
    expect(page.get_by_role("heading", name="What now")).to_be_visible()
    page.get_by_role("button", name="Keys").click()
    page.get_by_label("Use them").uncheck()
    page.get_by_role("button", name="Close").click()
    page.reload()
    expect(page.get_by_role("heading", name="What now")).to_be_visible()
    for key in "ap?2":
        page.keyboard.press(key)
    page.wait_for_timeout(300)
    expect(page).to_have_url(re.compile("/issues/1"))
    assert running.get("/api/issues/1")["state"] == before and not page.get_by_role("dialog").is_visible()
    page.get_by_role("button", name="Keys").click()
    page.get_by_label("Use them").check()
    page.get_by_role("button", name="Close").click()
    page.keyboard.press("a")
    expect(page.get_by_text("Issue 1 is accepted.")).to_be_visible()


def test_a_list_that_moves_changes_no_decision(page: Page, running: Running) -> None:
    """While the dialog is open, and between two keys, other issues come first: what is settled is what was looked at."""
    key = fill(running)
    page.goto(running.url + "/issues")
    page.get_by_role("link", name="FareUnknown in sailings.fares.surcharge").wait_for()
    chosen = page.locator("[aria-current=true]").first.inner_text()
    page.keyboard.press("s")
    page.get_by_role("dialog").wait_for()
    expect(page.get_by_role("combobox", name="The release with the fix")).not_to_have_value("")
    for point in range(3):
        running.send(key, failure(exceptions=raised_in("sailings.new", f"late{point}", "Late")))
    expect(page.get_by_text("sailings.new.late2").first).to_be_attached()
    page.get_by_role("dialog").get_by_role("button", name="Settle").click()
    expect(page.get_by_text(re.compile(r"Issue \d+ is settled"))).to_be_visible()
    settled = running.issues(state="settled")
    assert len(settled) == 1 and settled[0]["title"] in chosen
    # Somebody else decides on what is shown here: the page says so, and does not decide over it.
    expect(page.locator("[aria-current=true]")).to_have_count(1)


def test_a_question_on_the_page(page: Page, running: Running) -> None:
    """Asked in the field, kept in the address; what is no question says where it stops to be one."""
    fill(running)
    page.goto(running.url + "/issues?window=14d")
    field = page.get_by_role("searchbox")
    field.fill("place~fares")
    field.press("Enter")
    expect(page.get_by_text("1 issue,")).to_be_visible()
    expect(page).to_have_url(re.compile("question=place"))
    field.fill("type=")
    field.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text(
        "This question cannot be read. At character 6: a value is expected"
    )
    field.fill("nothing")
    field.press("Enter")
    expect(page.get_by_text("Words are found whole")).to_be_visible()
