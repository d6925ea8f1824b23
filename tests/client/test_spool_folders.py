"""Where reports wait is nobody else's: foreign folders, links and folders that everybody may write are refused."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from obitus.client.spool import Spool
from tests.client.programs import write

CODE = """
    import obitus, sys
    obitus.watch(url="http://127.0.0.1:9", key="okey_x")
    try: raise LookupError("berth 7 is gone")
    except LookupError as error: obitus.record(error)
    print(obitus.status()["spool"] if "spool" in obitus.status() else "")
"""


def opened(folder: Path) -> Spool:
    return Spool(folder, most_bytes=1_000_000, most_age_s=60, dropped=lambda why, count: None)


def test_own_folders_are_taken(tmp_path: Path) -> None:
    """They are made readable by their owner alone."""
    spool = opened(tmp_path / "spool" / "goal")
    spool.close()
    assert [(tmp_path / part).stat().st_mode & 0o777 for part in ("spool", "spool/goal")] == [0o700, 0o700]


@pytest.mark.parametrize("trouble", ["link", "parent link", "open", "parent open", "foreign", "parent foreign", "file"])
def test_others_folders_are_refused(tmp_path: Path, trouble: str) -> None:
    """Each is said, and nothing is written there."""
    parent, folder = tmp_path / "spool", tmp_path / "spool/goal"
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir(mode=0o700)
    if trouble == "parent link":
        parent.symlink_to(elsewhere)
    else:
        parent.mkdir(mode=0o700)
    if trouble == "link":
        folder.symlink_to(elsewhere)
    elif trouble == "file":
        folder.write_text("")
    else:
        folder.mkdir(mode=0o700)
    place = parent if trouble.startswith("parent") else folder
    if trouble.endswith("open"):
        place.chmod(0o777)
    if trouble.endswith("foreign"):
        if os.getuid() != 0:
            pytest.skip("only root can give a folder away")
        os.chown(place, 12345, 12345)
    with pytest.raises(OSError):
        opened(folder)
    assert not [path for path in elsewhere.rglob("*") if path.is_file()]


def test_without_home_somebody_was_there_first(tmp_path: Path) -> None:
    """A folder of our name in the folder for temporary files that is a link: reports wait in memory, and it is said."""
    temporary = tmp_path / "tmp"
    temporary.mkdir()
    temporary.chmod(0o1777)
    stolen = tmp_path / "stolen"
    stolen.mkdir()
    (temporary / f"obitus-spool-{os.getuid()}").symlink_to(stolen)
    environment = {name: value for name, value in os.environ.items() if name not in ("HOME", "XDG_STATE_HOME", "OBITUS_SPOOL")}  # fmt: skip
    done = subprocess.run(
        [sys.executable, str(write(tmp_path, CODE))], env=environment | {"TMPDIR": str(temporary)}, capture_output=True, text=True
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "cannot be used" in done.stderr and not list(stolen.iterdir())
