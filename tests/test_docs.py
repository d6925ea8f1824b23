"""Docs that cannot rot: pages made from the code are current, links lead somewhere, names are ours."""

from __future__ import annotations

import importlib.util
import json
import re
from pathlib import Path

ROOT = Path(__file__).parents[1]


def test_generated_pages_are_current() -> None:
    """Commands, problems and schema are those of this code. Else: make describe"""
    spec = importlib.util.spec_from_file_location("make_docs", ROOT / "docs/make_docs.py")
    assert spec is not None and spec.loader is not None
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    for name, make in made.PAGES.items():
        assert (ROOT / "docs" / name).read_text("utf-8") == make(), f"{name} is old; run: make describe"


def test_links_lead_somewhere() -> None:
    """Every relative link of every page, pictures included, points at a file that is there."""
    pages = [ROOT / "README.md", *(ROOT / "docs").rglob("*.md"), ROOT / "requirements/README.md"]
    for page in pages:
        for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text("utf-8")):
            assert (page.parent / target).exists(), f"{page.name}: {target}"


def test_files_that_are_named_exist() -> None:
    """Each path of a file or folder that the pages for developers name is in the repository."""
    beside = [ROOT, *(ROOT / place for place in ("src/obitus", "console", "console/src", "src/obitus/service"))]
    for page in (ROOT / "CONTRIBUTING.md", ROOT / "docs/architecture.md"):
        named = re.findall(r"`((?:[\w.]+/)+[\w.]*)`", page.read_text("utf-8"))
        assert len(named) > 20
        missing = [path for path in named if not any((place / path).exists() for place in beside)]
        assert not missing, f"{page.name}: {missing}"


def test_locks_have_hashes_and_no_addresses() -> None:
    """Every Python package is pinned with hashes; neither lock file names where a package comes from."""
    for name in ("server.txt", "dev.txt"):
        text = (ROOT / "requirements" / name).read_text("utf-8")
        assert "://" not in text
        for block in re.findall(r"^\S.*(?:\n .*)*", text, re.MULTILINE):
            assert "==" in block and "--hash=sha256:" in block, block[:80]
    for place in ("console", "tests/service/telemetry_js"):
        assert '"resolved"' not in (ROOT / place / "package-lock.json").read_text("utf-8")


def test_console_lock_names_every_platform() -> None:
    """The lock holds every package that another one wants, those for other machines too: else `npm ci` refuses."""
    packages = json.loads((ROOT / "console/package-lock.json").read_text("utf-8"))["packages"]
    held = {place.rpartition("node_modules/")[2] for place in packages}
    for place, package in packages.items():
        wanted = {**package.get("dependencies", {}), **package.get("optionalDependencies", {})}
        assert set(wanted) <= held, f"{place} wants {set(wanted) - held}"


def test_guides_have_the_lines_that_set_up_shows() -> None:
    """Each kind of app has a guide, and what it says to paste is what the Set-up page says."""
    from obitus.core.kinds import KINDS

    for kind in KINDS.values():
        text = (ROOT / f"docs/guides/{kind.name}.md").read_text("utf-8")
        assert all(step.lines in text and step.title in text for step in kind.steps), kind.name
        assert kind.install in text and kind.then in text


def test_the_changelog_says_which_versions_these_are() -> None:
    """Whoever upgrades reads there whether records are changed."""
    from obitus.core.grouping import recipe
    from obitus.core.version import REPORT_FORMAT
    from obitus.store.days.files import DAY_SCHEMA_VERSION
    from obitus.store.migrations import SCHEMA_VERSION

    assert (
        f"the store has schema version {SCHEMA_VERSION}, day files version {DAY_SCHEMA_VERSION}, "
        f"the report format version {REPORT_FORMAT}, and the grouping recipe version {recipe.VERSION}."
    ) in (ROOT / "CHANGELOG.md").read_text("utf-8")


def test_settings_are_documented() -> None:
    """Every variable of the client stands in the command reference, and every argument of watch() in its docstring."""
    import inspect

    import obitus
    from obitus.client.settings import ENVIRONMENT_NAMES

    commands = (ROOT / "docs/commands.md").read_text("utf-8")
    assert all(f"`{name}`" in commands for name in ENVIRONMENT_NAMES)
    words = inspect.getdoc(obitus.watch) or ""
    from_environment = {name.removeprefix("OBITUS_").lower() for name in ENVIRONMENT_NAMES}
    for name in inspect.signature(obitus.watch).parameters:
        assert f"``{name}``" in words or name in from_environment, name


def test_every_refusal_of_a_line_is_listed() -> None:
    """No line is refused with a slug that docs/problems.md does not explain."""
    from obitus.service.intake.lines import REFUSALS

    for path in ("prepare.py", "reports.py"):
        text = (ROOT / "src/obitus/service/intake" / path).read_text("utf-8")
        used = set(re.findall(r'Refusal\(\s*"([a-z0-9-]+)"', text)) | set(re.findall(r'slug="([a-z-]+)"', text))
        assert used <= set(REFUSALS), used - set(REFUSALS)


def test_tests_that_pages_name_exist() -> None:
    """A test that a page names as its evidence is there."""
    for page in (ROOT / "docs").rglob("*.md"):
        text = page.read_text("utf-8")
        for path, name in re.findall(r"`(tests/[\w/]+\.py)(?:::(\w+))?`", text):
            assert (ROOT / path).exists(), f"{page.name}: {path}"
            assert not name or f"def {name}(" in (ROOT / path).read_text("utf-8"), f"{page.name}: {path}::{name}"
    assert len(re.findall(r"`tests/[\w/]+\.py::", (ROOT / "docs/security.md").read_text("utf-8"))) > 30
