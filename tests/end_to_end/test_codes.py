"""One-time codes where everybody is asked for them: the first page that somebody sees leads through them, and then on."""

from __future__ import annotations

import re
from pathlib import Path

import pyotp
from playwright.sync_api import Browser, expect

from tests.conftest import failure, serving
from tests.end_to_end.browsing import axe, context_in
from tests.service.test_people import invited


def test_codes_come_first(browser: Browser, tmp_path: Path) -> None:
    """Nothing else is shown before they are set up; then the page that was asked for is there, and they cannot be ended."""
    with serving(tmp_path / "data", codes_for_all=True) as running:
        running.send(running.add_app(), failure())
        session = invited(running)
        context = context_in(browser)
        context.add_cookies([{"name": "obitus_session", "value": session, "url": running.url}])
        page = context.new_page()
        page.goto(running.url + "/issues")
        expect(page.get_by_text("Everybody who has a password is asked for one-time codes here")).to_be_visible()
        expect(page.get_by_role("link")).to_have_count(0)
        assert axe(page) == []
        page.get_by_role("button", name="Set up one-time codes").click()
        expect(page.get_by_role("img", name=re.compile("QR code"))).to_be_visible()
        secret = page.get_by_text("Let your authenticator app read").locator("code").inner_text()
        code = page.get_by_label("One-time code", exact=True)
        code.fill("000000")
        page.get_by_role("button", name="Ask me for codes from now on").click()
        expect(page.get_by_role("alert")).to_contain_text("not the code of now")
        code.fill(pyotp.TOTP(secret).at(running.service.clock.now_ms() // 1000))
        page.get_by_role("button", name="Ask me for codes from now on").click()
        expect(page.get_by_role("list", name="Issues").get_by_role("listitem")).to_have_count(1)
        expect(page.get_by_text("● live")).to_be_visible()
        page.goto(running.url + "/set-up")
        expect(page.get_by_text("If you lose the telephone, ask an owner")).to_be_visible()
        expect(page.get_by_role("button", name="Stop asking for codes")).to_have_count(0)
        context.close()
