"""What importing costs, also over what pytest has loaded, as a share of what `import pytest` costs."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys

from turns import verdict

TIMED = "import time; begun = time.perf_counter(); {code}; print(time.perf_counter() - begun)"
STEPS = {
    "pytest": "import pytest",
    "import ironclock": "import ironclock",
    "with pytest loaded, import ironclock; ironclock.Rig": "import ironclock; ironclock.Rig",
    "and every name that a test uses": "import ironclock as ic; ic.Rig, ic.Retry, ic.reading, ic.laws, ic.services",
}


def main() -> None:
    # As on any machine where the package is installed: its bytecode is kept.
    env = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    shares: dict[str, list[float]] = {name: [] for name in STEPS}
    for _ in range(21):
        spent = {}
        for name, code in STEPS.items():
            loaded = "import pytest; " if name.startswith(("with", "and")) else ""
            command = [sys.executable, "-c", loaded + TIMED.format(code=code)]
            asked = subprocess.run(command, check=True, env=env, capture_output=True, text=True)
            spent[name] = float(asked.stdout)
        for name, seconds in spent.items():
            shares[name].append(seconds / spent["pytest"])
    _, bare, rig, every = (statistics.median(found) for found in shares.values())
    names = list(STEPS)[1:]
    verdict(f"{bare:.3f} of the time of `import pytest`: {names[0]} (under 0.15)", bare < 0.15)
    verdict(f"{rig:.2f} of it: {names[1]} (under 0.5)", rig < 0.5)
    verdict(f"{every:.2f} of it: {names[2]} (under 0.6)", every < 0.6)
