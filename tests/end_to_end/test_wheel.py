"""The wheel, built and installed into fresh virtual environments, without Node and without this checkout."""

from __future__ import annotations

import os
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
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("wheel")
    subprocess.run([sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(folder)], cwd=ROOT, check=True, capture_output=True)  # fmt: skip
    (found,) = folder.glob("*.whl")
    return found


def install(folder: Path, wheel: Path, *requirements: str) -> Path:
    """Make an environment with these pinned requirements and the wheel; return its folder of programs."""
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
    pip(python, "--no-deps", wheel)
    return folder / "bin"


@pytest.mark.timeout(900)
def test_base_install_is_the_client_alone(wheel: Path, tmp_path: Path) -> None:
    """With nothing else installed the client works; the command line says what to install, and checks all the same."""
    programs = install(tmp_path / "base", wheel, "nothing")
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
        assert "WRONG" not in said and "A test report was taken" in said
        call(program, "-c", "import obitus\nobitus.watch()\n1 / 0", status=1, **here)
    assert running.issues()[0]["failures"] == len(interpreters())
    wrong = made["install"].rpartition("=")[0] + "=" + "0" * 64
    assert "hash" in pip(program, "--force-reinstall", "--no-index", wrong, status=1).lower()


@pytest.mark.timeout(900)
def test_server_install_serves_the_console(wheel: Path, tmp_path: Path) -> None:
    """The console, the schema and the demo's two weeks are inside the wheel: `obitus demo` runs, and its pages are there."""
    programs = install(tmp_path / "server", wheel)
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
        assert service.wait(20) in (0, -15)
        if service.stdout is not None:
            service.stdout.close()


def test_the_source_makes_the_same_wheel(wheel: Path, tmp_path: Path) -> None:
    """The source distribution has all that the wheel is made of, without Node and without git."""
    build = [sys.executable, "-m", "hatchling", "build", "-d", str(tmp_path / "made")]
    subprocess.run([*build, "-t", "sdist"], cwd=ROOT, check=True, capture_output=True)
    (source,) = (tmp_path / "made").glob("*.tar.gz")
    with tarfile.open(source) as archive:
        archive.extractall(tmp_path, filter="data")
    unpacked = tmp_path / source.name.removesuffix(".tar.gz")
    subprocess.run([*build, "-t", "wheel"], cwd=unpacked, check=True, capture_output=True, env={"PATH": "/nowhere"})
    (again,) = (tmp_path / "made").glob("*.whl")
    assert _hashes(again) == _hashes(wheel)


def _hashes(wheel: Path) -> set[str]:
    """Return the lines of a wheel's record: name, hash and size of each file."""
    with zipfile.ZipFile(wheel) as archive:
        (record,) = (name for name in archive.namelist() if name.endswith(".dist-info/RECORD"))
        return set(archive.read(record).decode().splitlines())
