"""Runs the programs in ``programs/`` with each fault that they mark, and keeps what they write: ``python -m tests.core.stacks.record``.

A mark names the fault and the function: ``// FAULT index Gate.open``. Which toolchains are here decides what is recorded anew.
"""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import tempfile
from pathlib import Path

HERE = Path(__file__).parent
PROGRAMS = HERE / "programs"
RECORDED = HERE / "recorded.ndjson"
# Language: program, what builds it (in a copy of the folder), what runs it.
LANGUAGES = {
    "java": ("Gate.java", ["javac", "-g", "Gate.java"], ["java", "Gate"]),
    "javascript": ("gate.js", [], ["node", "gate.js"]),
    "go": ("gogate/gate.go", ["go", "build", "-gcflags=-l", "-o", "gate-go", "gogate/gate.go"], ["./gate-go"]),
    "ruby": ("gate.rb", [], ["ruby", "gate.rb"]),
    "php": ("gate.php", [], ["php", "-d", "display_errors=stderr", "-d", "log_errors=0", "gate.php"]),
    "perl": ("gate.pl", [], ["perl", "gate.pl"]),
    "rust": ("gate.rs", ["rustc", "-g", "gate.rs", "-o", "gate-rs"], ["./gate-rs"]),
    "csharp": ("Gate.cs", ["mcs", "-debug", "-out:gate.exe", "Gate.cs"], ["mono", "--debug", "-O=-inline", "gate.exe"]),
}


def main() -> None:
    """Record every fault of every program whose toolchain is here."""
    found = []
    with tempfile.TemporaryDirectory() as folder:
        work = Path(folder) / "gate"
        shutil.copytree(PROGRAMS, work)
        for language, (name, build, run) in LANGUAGES.items():
            if shutil.which((build or run)[0]) is None:
                continue
            if build:
                subprocess.run(build, cwd=work, check=True)
            lines = (PROGRAMS / name).read_text().splitlines()
            for number, line in enumerate(lines, 1):
                mark = re.search(r"(?://|#) FAULT (\S+) (.+)$", line)
                if mark is None:
                    continue
                ended = subprocess.run(
                    [*run, mark[1]],
                    cwd=work,
                    capture_output=True,
                    text=True,
                    env={"RUST_BACKTRACE": "1", "PATH": "/usr/bin:/bin:/usr/local/bin:/root/.cargo/bin"},
                )
                found.append(
                    {
                        "language": language,
                        "fault": mark[1],
                        "function": mark[2],
                        "file": Path(name).name,
                        "line": number,
                        "text": ended.stderr.replace(str(work), "/srv/gate"),
                    }
                )
    RECORDED.write_text("".join(json.dumps(one) + "\n" for one in found))


if __name__ == "__main__":
    main()
