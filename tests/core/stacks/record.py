"""Runs the programs in ``programs/`` with each fault that they mark, and keeps what they write: ``python -m tests.core.stacks.record``.

A mark names the fault and the function: ``// FAULT index Gate.open``; behind them may stand the forms in which a trace is
written, which the program reads from ``FORM``. What is recorded of programs whose toolchain is not here stays.
"""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).parent
PROGRAMS = HERE / "programs"
RECORDED = HERE / "recorded.ndjson"
# Program: language, what builds it (in a copy of the folder), what runs it.
JAVA, RUST = ["javac", "-g", "Gate.java"], ["rustc", "-g", "gate.rs", "-o", "gate-rs"]
RUNS: dict[str, tuple[str, list[str], list[str]]] = {
    "Gate.java": ("java", JAVA, ["java", "Gate"]),
    "gate.js": ("javascript", [], ["node", "gate.js"]),
    "promises.js": ("javascript", [], ["node", "promises.js"]),
    "gogate/gate.go": ("go", ["go", "build", "-gcflags=-l", "-o", "gate-go", "gogate/gate.go"], ["./gate-go"]),
    "gate.rb": ("ruby", [], ["ruby", "gate.rb"]),
    "gate.php": ("php", [], ["php", "-d", "display_errors=stderr", "-d", "log_errors=0", "gate.php"]),
    "gate.pl": ("perl", [], ["perl", "gate.pl"]),
    "tides.pl": ("perl", [], ["perl", "tides.pl"]),
    "gate.rs": ("rust", RUST, ["./gate-rs"]),
    "Gate.cs": ("csharp", ["mcs", "-debug", "-out:gate.exe", "Gate.cs"], ["mono", "--debug", "-O=-inline", "gate.exe"]),
}
FORMS = {"verbose": ["-MCarp=verbose"]}
"""What the runner is told for a form."""


def main() -> None:
    """Record every fault of every program whose toolchain is here, or of those that are named."""
    named = sys.argv[1:]
    before = [json.loads(line) for line in RECORDED.read_text("utf-8").splitlines()]
    found = []
    with tempfile.TemporaryDirectory() as folder:
        work = Path(folder) / "gate"
        shutil.copytree(PROGRAMS, work)
        for name, (language, build, run) in RUNS.items():
            if shutil.which((build or run)[0]) is None or (named and name not in named):
                found += [one for one in before if one["file"] == Path(name).name]
                continue
            if build:
                subprocess.run(build, cwd=work, check=True)
            for number, line in enumerate((PROGRAMS / name).read_text().splitlines(), 1):
                mark = re.search(r"(?://|#) FAULT (\S+) (\S+(?: first)?)((?: \S+)*)$", line)
                for form in (mark[3].split() or [""]) if mark is not None else ():
                    assert mark is not None
                    program, *words = run
                    ended = subprocess.run(
                        [program, *FORMS.get(form, []), *words, mark[1]],
                        cwd=work,
                        capture_output=True,
                        text=True,
                        env={
                            "RUST_BACKTRACE": "1",
                            "FORM": form,
                            "PATH": "/usr/bin:/bin:/usr/local/bin:/root/.cargo/bin",
                        },
                    )
                    one = {
                        "language": language,
                        "fault": mark[1],
                        "function": mark[2],
                        "file": Path(name).name,
                        "line": number,
                    }
                    found.append(
                        one | ({"form": form} if form else {}) | {"text": ended.stderr.replace(str(work), "/srv/gate")}
                    )
    RECORDED.write_text("".join(json.dumps(one) + "\n" for one in found))


if __name__ == "__main__":
    main()
