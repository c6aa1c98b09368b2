"""What importing costs over the bare interpreter."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time

from turns import verdict

STEPS = {
    "the bare interpreter": "pass",
    "import ironclock": "import ironclock",
    "import ironclock, and every name that a test uses": "import ironclock as ic; ic.Rig, ic.Retry, ic.reading",
}


def main() -> None:
    # As on any machine where the package is installed: its bytecode is kept.
    env = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    spent: dict[str, list[float]] = {name: [] for name in STEPS}
    for _ in range(21):
        for name, code in STEPS.items():
            start = time.perf_counter()
            subprocess.run([sys.executable, "-c", code], check=True, env=env)
            spent[name].append((time.perf_counter() - start) * 1e3)
    bare = spent["the bare interpreter"]
    for name, times in spent.items():
        over = statistics.median(t - b for t, b in zip(times, bare, strict=True))
        if name.startswith("the bare"):
            print(f"   {statistics.median(times):.0f} ms  {name}")
        elif name.endswith("uses"):
            print(f"   {over:.0f} ms over it: {name}")
        else:
            verdict(f"{over:.0f} ms over it: {name} (under 60)", over < 60)
