"""``make bench-releases``: streams with known truth, and commits with planted faults."""

from __future__ import annotations

import tempfile
from pathlib import Path

from bench.releases import changes, streams


def main() -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as folder:
        for seed in (5, 6, 7):
            found = streams.regressions(Path(folder) / str(seed), seed)
            print(
                f"settled issues, stream {seed}: " + ", ".join(f"{name} {n:,}" for name, n in found.items()), flush=True
            )
        for seed in (5, 6, 7):
            answer = streams.rates(seed)
            tally = answer["tally"]
            sure = tally["true, sure"] + tally["false, sure"]
            print(
                f"rates that doubled, stream {seed}: {tally['true']:,} found, {tally['true, sure']:,} of them surely; "
                f"of {tally['unchanged']:,} rates that did not change {tally['false']:,} marked ({tally['false'] / tally['unchanged']:.2%}, promised 2.5%); "
                f"of {sure:,} sure marks {tally['false, sure']:,} false ({tally['false, sure'] / max(1, sure):.1%}, promised 5%)"
            )
            for size in ("below 10", "10 to 18", "18 to 22", "22 to 50", "50 and more"):
                hits = answer["by_size"].get(size)
                if hits:
                    print(
                        f"    expected failures {size}: {hits[True]} of {hits.total()} found ({hits[True] / hits.total():.1%})",
                        flush=True,
                    )
        changes.measure(Path(folder))


if __name__ == "__main__":
    main()
