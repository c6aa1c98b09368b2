"""What importing costs, also over what pytest has loaded, as a share of what `import pytest` costs."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys

from turns import verdict

TIMED = "import time; begun = time.perf_counter(); {code}; print(time.perf_counter() - begun)"
STEPS = {
    "pytest": ("", "import pytest"),
    "import ironclock (under 0.15)": ("", "import ironclock"),
    "with pytest loaded, import ironclock; ironclock.Rig (under 0.5)": (
        "import pytest", "import ironclock; ironclock.Rig",
    ),
    "and every name that a test uses (under 0.6)": (
        "import pytest", "import ironclock as ic; ic.Rig, ic.Retry, ic.reading, ic.laws, ic.services",
    ),
    "after that, the first rig of the process, made and entered (under 0.1)": (
        "import pytest, ironclock as ic; ic.Rig", "rig = ic.Rig(); rig.__enter__(); rig.__exit__(None, None, None)",
    ),
}  # fmt: skip
"""What is timed by its words: what is done before, and what is timed."""


def main() -> None:
    # As on any machine where the package is installed: its bytecode is kept.
    env = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    shares: dict[str, list[float]] = {name: [] for name in STEPS}
    for _ in range(21):
        spent = {}
        for name, (before, code) in STEPS.items():
            timed = f"{before or 'pass'}\n{TIMED.format(code=code)}"
            asked = subprocess.run([sys.executable, "-c", timed], check=True, env=env, capture_output=True, text=True)
            spent[name] = float(asked.stdout)
        for name, seconds in spent.items():
            shares[name].append(seconds / spent["pytest"])
    del shares["pytest"]
    for name, found in shares.items():
        share = statistics.median(found)
        most = float(name.rpartition("(under ")[2].rstrip(")"))
        verdict(f"{share:.3f} of the time of `import pytest`: {name}", share < most)
