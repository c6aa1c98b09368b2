"""The forecast against the exact engine, on every workload of tests/workloads.py: means within 2 %, quantiles (5 and
95 %) within 5 %, each with the sampling error of the exact runs on top (three standard errors).

The exact runs take long. Their figures are kept in tests/forecasting/exact_figures.json; ``--write 100`` makes them
anew, from so many runs of each workload (``--only WORD`` for some of them).
"""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
import exact
from exact import FIGURES, KEPT, compare, drawn
from workloads import SCENARIOS, WORKLOADS


def write(count: int, only: str) -> None:
    """Run the exact engine `count` times on each workload, and keep the figures."""
    kept = json.loads(KEPT.read_text()) if KEPT.exists() else {}
    with ProcessPoolExecutor(2) as processes:
        for name in [*WORKLOADS, *SCENARIOS]:
            if only not in name:
                continue
            runs = list(processes.map(partial(exact.figures_of, name), range(count), chunksize=2))
            figures = {}
            for figure in FIGURES:
                values = np.array([run[figure] for run in runs if figure in run])
                if len(values) and np.isfinite(values).all():
                    figures[figure] = {key: [round(v, 8) for v in pair] for key, pair in drawn(values).items()}
            kept[name] = {"runs": count, "first": runs[0], "figures": figures}
            KEPT.write_text(json.dumps(dict(sorted(kept.items())), indent=1) + "\n")
            print(name, flush=True)


def main(arguments: Sequence[str] = ()) -> None:
    """Print for each workload how far the forecast is from the exact engine."""
    options = argparse.ArgumentParser()
    options.add_argument("--write", type=int, metavar="RUNS")
    options.add_argument("--only", default="")
    given = options.parse_args(arguments)
    if given.write:
        write(given.write, given.only)
    judged = off = 0
    for name in json.loads(KEPT.read_text()):
        if given.only not in name:
            continue
        compared, farthest, words = compare(name)
        judged, off = judged + compared, off + len(words)
        print(
            f"{name}: means {max(0.0, farthest):.1%} away beyond the doubt; {'; '.join(words) or 'all within'}",
            flush=True,
        )
    print(f"{judged} figures, {off} are off by more than the limits and the doubt")


if __name__ == "__main__":
    main(sys.argv[1:])
