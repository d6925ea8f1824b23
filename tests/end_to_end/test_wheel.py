"""The wheel, built and installed into fresh virtual environments, without Node and without this checkout."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tarfile
import venv
import zipfile
from pathlib import Path

import pytest
import urllib3

from tests.client.interpreters import interpreters, name_of
from tests.conftest import Running
from tests.demo.ferry import printed_by
from tests.end_to_end.test_nothing_is_lost import free_port

ROOT = Path(__file__).parents[2]


COMPLETED = """
eval "$(obitus --show-completion bash)"
COMP_WORDS=(obitus bac); COMP_CWORD=1; _obitus_completion obitus; echo "${COMPREPLY[@]}"
"""


def call(*command: str | Path, status: int = 0, **environment: str) -> str:
    clean = {"PATH": "/usr/bin:/bin", "HOME": os.environ.get("HOME", "/")} | environment
    keep = ("PIP_CERT", "PIP_FIND_LINKS", "SSL_CERT_FILE", "PIP_INDEX_URL")
    clean |= {name: value for name, value in os.environ.items() if name in keep}
    ended = subprocess.run([str(part) for part in command], capture_output=True, text=True, env=clean, timeout=800)
    assert ended.returncode == status, ended.stderr[-2000:]
    return ended.stdout + ended.stderr


def pip(python: Path, *what: str | Path, status: int = 0) -> str:
    """Install with this environment's pip: one of its own, and compiled files, would take most of the test's time."""
    return call(sys.executable, "-m", "pip", "--python", python, "install", "-q", "--no-compile", *what, status=status)


def _install_pinned(python: Path, pins: Path) -> None:
    """Install as the set-up does: with what is fast, and with pip where that finds no package index."""
    fast = [
        Path(sys.executable).with_name("uv"),
        "pip",
        "install",
        "-q",
        "--python",
        python,
        "--require-hashes",
        "-r",
        pins,
    ]
    if subprocess.run(fast, capture_output=True).returncode:
        pip(python, "--require-hashes", "-r", pins)


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """All of it as the build makes it: what the three wheels are made of."""
    folder = tmp_path_factory.mktemp("whole")
    subprocess.run([sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(folder)], cwd=ROOT, check=True, capture_output=True)  # fmt: skip
    (found,) = folder.glob("*.whl")
    return found


@pytest.fixture(scope="module")
def wheels(whole: Path) -> Path:
    """The folder with the wheels of client, command line and server."""
    folder = whole.parent / "dist"
    subprocess.run([sys.executable, ROOT / "deploy/make_wheels.py", whole, folder], check=True, capture_output=True)
    return folder


def install(folder: Path, wheels: Path, what: str, *requirements: str) -> Path:
    """Make an environment with these pinned requirements and what is asked of the wheels; return its folder of programs.

    There is no index of packages: what a wheel requires has to be pinned, or among the wheels.
    """
    venv.create(folder)
    python = folder / "bin/python"
    pins = folder / "pins.txt"
    text = (ROOT / "requirements/server.txt").read_text("utf-8")
    if requirements:
        blocks = [block for block in text.split("\n") if block]
        wanted: list[str] = []
        for line in blocks:
            if not line.startswith(" "):
                taking = line.split("==")[0] in requirements
            if taking:
                wanted.append(line)
        text = "\n".join(wanted) + "\n"
    pins.write_text(text)
    if text.strip():
        _install_pinned(python, pins)
    pip(python, "--no-index", "--find-links", wheels, what)
    return folder / "bin"


@pytest.mark.timeout(900)
def test_base_install_is_the_client_alone(wheels: Path, tmp_path: Path) -> None:
    """With nothing else installed the client works; the command line says what to install, and checks all the same."""
    programs = install(tmp_path / "base", wheels, "obitus", "nothing")
    (site,) = (tmp_path / "base/lib").glob("python*/site-packages/obitus")
    assert {path.name for path in site.iterdir() if path.is_dir()} <= {"client", "core", "cli", "__pycache__"}
    assert [path.name for path in (site / "cli").glob("*.py")] == ["__init__.py"]
    code = "import obitus, logging; obitus.watch(url='http://127.0.0.1:9', key='okey_x'); obitus.record(ValueError()); print(obitus.flush(0.5))"
    assert "False" in call(programs / "python", "-c", code)
    assert "pip install 'obitus[cli]'" in call(programs / "obitus", status=2)
    assert "OBITUS_URL is not set" in call(programs / "obitus", "check", status=1)


@pytest.mark.timeout(900)
def test_the_service_hands_out_the_client(running: Running, tmp_path: Path) -> None:
    """The line that Set-up shows installs the client from the service, hash and all; it reports, and checks itself."""
    made = running.ask("POST", "/api/apps", {"name": "net-loft", "environment": "production"}).json()
    assert f"{running.url}/client/obitus-" in made["install"] and "#sha256=" in made["install"]
    for python in interpreters():
        folder = tmp_path / name_of(python)
        subprocess.run([python, "-m", "venv", "--without-pip", str(folder)], check=True)
        program = folder / "bin/python"
        pip(program, "--no-index", made["install"])
        here = {"OBITUS_URL": running.url, "OBITUS_KEY": made["key"], "OBITUS_SPOOL": str(folder / "spool")}
        said = call(program, "-m", "obitus", "check", **here)
        assert "WRONG" not in said and "A test report was stored" in said
        call(program, "-c", "import obitus\nobitus.watch()\n1 / 0", status=1, **here)
    assert running.issues()[0]["failures"] == len(interpreters())
    wrong = made["install"].rpartition("=")[0] + "=" + "0" * 64
    assert "hash" in pip(program, "--force-reinstall", "--no-index", wrong, status=1).lower()


@pytest.mark.timeout(900)
def test_the_command_line_needs_no_service(running: Running, wheels: Path, tmp_path: Path) -> None:
    """Its wheel brings what it needs; it asks a service elsewhere, and says what to install to be one."""
    needed = ("typer", "annotated-doc", "urllib3", "click", "rich", "shellingham", "typing-extensions", "markdown-it-py", "mdurl", "pygments")  # fmt: skip
    programs = install(tmp_path / "cli", wheels, "obitus[cli]", *needed)
    where = {"OBITUS_URL": running.url, "OBITUS_TOKEN": running.token}
    assert "No issue" in call(programs / "obitus", "issues", **where)
    for command in ("serve", "demo"):
        assert "pip install 'obitus[server]'" in call(programs / "obitus", command, status=2, **where)


@pytest.mark.timeout(900)
def test_server_install_serves_the_console(wheels: Path, tmp_path: Path) -> None:
    """The console, the schema and the demo's two weeks are inside the wheels: `obitus demo` runs, and its pages are there."""
    programs = install(tmp_path / "server", wheels, "obitus[server]")
    assert (tmp_path / "server/share/man/man1/obitus-issues.1").read_text("utf-8").startswith('.\\" Made')
    completed = call("bash", "-c", COMPLETED, PATH=f"{programs}:/usr/bin:/bin")
    assert completed.split() == ["backup"]
    port = free_port()
    home = {"PATH": "/bin", "HOME": str(tmp_path), "PYTHONUNBUFFERED": "1"}
    service = subprocess.Popen([str(programs / "obitus"), "demo", "--data", str(tmp_path / "data"), "--port", str(port)], env=home, stdout=subprocess.PIPE, text=True, cwd=tmp_path)  # fmt: skip
    try:
        printed = printed_by(service)
        assert f"http://127.0.0.1:{port}/sign-in#" in printed, printed
        page = urllib3.request("GET", f"http://127.0.0.1:{port}/", retries=False, timeout=150)
        text = page.data.decode()
        assert page.status == 200 and "/assets/index-" in text
        script = text.split('src="')[1].split('"')[0]
        answer = urllib3.request("GET", f"http://127.0.0.1:{port}{script}", retries=False, timeout=150)
        assert answer.status == 200 and answer.headers["Content-Type"].startswith("text/javascript")
    finally:
        service.terminate()
        assert service.wait(60) == 0
        if service.stdout is not None:
            service.stdout.close()


def test_each_file_is_in_one_wheel(whole: Path, wheels: Path) -> None:
    """The three together are what the build made, manual pages too; pip finds each file as its record says."""
    inside: list[str] = []
    for wheel in wheels.iterdir():
        inside += [re.sub(r"^obitus\w*(-[^/]+\.data/)", r"obitus\1", place) for place in _files(wheel)]
    assert sorted(inside) == sorted(_files(whole))
    sizes = {wheel.name.partition("-")[0]: wheel.stat().st_size for wheel in wheels.iterdir()}
    assert sizes["obitus"] < sizes["obitus_server"] / 4


def test_the_source_makes_the_same_wheel(whole: Path, tmp_path: Path) -> None:
    """The source distribution has all that the wheel is made of, without Node and without git."""
    build = [sys.executable, "-m", "hatchling", "build", "-d", str(tmp_path / "made")]
    subprocess.run([*build, "-t", "sdist"], cwd=ROOT, check=True, capture_output=True)
    (source,) = (tmp_path / "made").glob("*.tar.gz")
    with tarfile.open(source) as archive:
        archive.extractall(tmp_path, filter="data")
    unpacked = tmp_path / source.name.removesuffix(".tar.gz")
    subprocess.run([*build, "-t", "wheel"], cwd=unpacked, check=True, capture_output=True, env={"PATH": "/nowhere"})
    (again,) = (tmp_path / "made").glob("*.whl")
    assert _hashes(again) == _hashes(whole)


def _files(wheel: Path) -> list[str]:
    """Return where the files of a wheel lie, but for its own metadata."""
    with zipfile.ZipFile(wheel) as archive:
        return [name for name in archive.namelist() if ".dist-info/" not in name]


def _hashes(wheel: Path) -> set[str]:
    """Return the lines of a wheel's record: name, hash and size of each file."""
    with zipfile.ZipFile(wheel) as archive:
        (record,) = (name for name in archive.namelist() if name.endswith(".dist-info/RECORD"))
        return set(archive.read(record).decode().splitlines())
