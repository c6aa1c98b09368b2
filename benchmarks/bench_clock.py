"""What simulated time costs: entering, reading, and a test that uses the fixture."""

from __future__ import annotations

import datetime as dt
import statistics
import sys
import threading
import time
import timeit
from types import ModuleType

from turns import loop_turns, verdict

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


def entering() -> float:
    """Return the median seconds to enter and leave a rig."""
    spent = []
    for _ in range(100):
        rig = ic.Rig()
        start = real(MONOTONIC)
        with rig:
            pass
        spent.append(real(MONOTONIC) - start)
    return statistics.median(spent)


def making() -> float:
    """Return the median seconds to make a rig, enter and leave it."""
    spent = []
    for _ in range(100):
        start = real(MONOTONIC)
        with ic.Rig():
            pass
        spent.append(real(MONOTONIC) - start)
    return statistics.median(spent)


def main() -> None:
    for number in range(max(0, 2000 - len(sys.modules))):
        sys.modules[f"filler_{number}"] = ModuleType(f"filler_{number}")
    turns = loop_turns(entering)
    verdict(
        f"to enter and leave a rig, {len(sys.modules)} modules loaded: {turns:,.0f} turns of a bare loop (under 5,000)",
        turns < 5_000,
    )
    turns = loop_turns(making)
    verdict(f"to make one as well, as the fixture does: {turns:,.0f} turns (under 15,000)", turns < 15_000)

    rig = ic.Rig()
    for code, limit in [
        ("time()", 2.0), ("datetime.now()", 2.2), ("monotonic()", 0), ("datetime.now(utc)", 0),
    ]:  # fmt: skip
        outside, inside = reading(code, 41, rig)
        text = f"{code} in a rig costs {inside / outside:.2f} times what it costs outside"
        if limit:
            verdict(f"{text} (under {limit})", inside / outside < limit)
        else:
            print(f"   {text}")
    stop = threading.Event()
    threading.Thread(target=stop.wait, daemon=True).start()
    for code in ("time()", "datetime.now()"):
        outside, inside = reading(code, 41, rig)
        print(f"   with another thread running: {code} costs {inside / outside:.2f} times what it costs outside")
    stop.set()
