"""What simulated time costs: entering, reading, and a test that uses the fixture."""

from __future__ import annotations

import datetime as dt
import statistics
import sys
import threading
import time
import timeit
from types import ModuleType

from turns import verdict

import ironclock as ic

real = time.clock_gettime  # the documented door to the real clock
MONOTONIC = time.CLOCK_MONOTONIC


def reading(code: str, rounds: int, rig: ic.Rig) -> tuple[float, float]:
    """Return nanoseconds a call outside and inside a rig, medians of interleaved rounds."""
    names = {"time": time.time, "datetime": dt.datetime, "monotonic": time.monotonic, "utc": dt.timezone.utc}
    loop = timeit.Timer(";".join([code] * 10), globals=names, timer=lambda: real(MONOTONIC))
    outside, inside = [], []
    for _ in range(rounds):
        outside.append(loop.timeit(2000) / 20_000 * 1e9)
        rig.advance("1s")
        with rig:
            inside.append(loop.timeit(2000) / 20_000 * 1e9)
    return statistics.median(outside), statistics.median(inside)


def main() -> None:
    for number in range(max(0, 2000 - len(sys.modules))):
        sys.modules[f"filler_{number}"] = ModuleType(f"filler_{number}")
    spent = []
    for _ in range(500):
        rig = ic.Rig()
        start = real(MONOTONIC)
        with rig:
            pass
        spent.append((real(MONOTONIC) - start) * 1e6)
    micros = statistics.median(spent)
    verdict(f"{micros:.0f} us to enter and leave, {len(sys.modules)} modules loaded (under 150)", micros < 150)

    made = []
    for _ in range(500):
        start = real(MONOTONIC)
        with ic.Rig():
            pass
        made.append((real(MONOTONIC) - start) * 1e6)
    print(f"   {statistics.median(made):.0f} us to make a rig, enter and leave it: what the fixture adds (under 500)")

    rig = ic.Rig()
    for code, limit in [
        ("time()", 2.0), ("datetime.now()", 2.2), ("monotonic()", 0), ("datetime.now(utc)", 0),
    ]:  # fmt: skip
        outside, inside = reading(code, 41, rig)
        text = f"{code} {inside:.0f} ns in a rig, {outside:.0f} ns outside: {inside / outside:.2f} times"
        if limit:
            verdict(f"{text} (under {limit})", inside / outside < limit)
        else:
            print(f"   {text}")
    stop = threading.Event()
    threading.Thread(target=stop.wait, daemon=True).start()
    for code in ("time()", "datetime.now()"):
        outside, inside = reading(code, 41, rig)
        print(
            f"   with another thread running: {code} {inside / outside:.2f} times ({inside:.0f} ns, {outside:.0f} ns)"
        )
    stop.set()
