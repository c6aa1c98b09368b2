"""What must stay linear, and what histories cost beside plain JSON: crashes, flows, rules, saved histories."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from turns import in_turns, loop_turns, ratio, verdict

import ironclock as ic


def spent(work: Callable[[], Any]) -> float:
    start = time.process_time()
    work()
    return time.process_time() - start


def crashes(count: int) -> Callable[[], float]:
    def side() -> float:
        with ic.Rig() as rig:
            rig.workers(4)
            kind = rig.job(lambda: time.sleep(1), name="weigh")
            rig.faults.crash("weigh", at="sleep", attempts=1)
            for _ in range(count):
                rig.enqueue(kind)
            return spent(rig.run_dry) / count

    return side


def wide_flow(count: int) -> Callable[[], float]:
    def side() -> float:
        with ic.Rig() as rig:
            step = rig.job(lambda: None, name="step")
            flow = rig.flow("departure")
            for number in range(count):
                flow.add(f"{number}", step, after=f"{number - 1}" if number % 2 else ())
            flow.add("join", step, after=[f"{number}" for number in range(count)])
            return spent(lambda: (flow.start(), rig.run_dry())) / count

    return side


def firings(count: int) -> Callable[[], float]:
    rule = "DTSTART:20310101T080000\nRRULE:FREQ=DAILY\nEXDATE:20310310T080000\nRDATE:20310310T093000"

    def side() -> float:
        with ic.Rig() as rig:
            rig.schedule("poll", rig.job(lambda: None, name="poll"), ic.rrule(rule))
            return spent(lambda: rig.advance(f"{count}d")) / count

    return side


def linear(name: str, make: Callable[[int], Callable[[], float]], few: int, limit_turns: float | None = None) -> None:
    found = in_turns({"few": make(few), "many": make(4 * few)}, 5)
    growth = ratio(found, "many", "few")
    print(f"{name}: one of {4 * few:,} costs {growth:.2f} times one of {few:,}")
    verdict(f"{name} are linear (a ratio below 1.5)", growth < 1.5)
    if limit_turns is not None:
        turns = loop_turns(lambda: make(few)())
        print(f"{name}: one costs {turns:,.0f} turns of a bare loop")
        verdict(
            f"{name}: below {limit_turns:,.0f} turns (half a millisecond where a turn takes 25 ns)", turns < limit_turns
        )


def night(jobs: int) -> ic.Rig:
    rig = ic.Rig()
    with rig:
        rig.workers(10)
        kind = rig.job(lambda number, sailing: number, name="charge_fare", key="sailing")
        for number in range(jobs):
            rig.enqueue(kind, number, f"TL-{number % 97}", after=number)
        rig.run_dry("3000d")
    return rig


def histories(folder: Path) -> None:
    rig = night(30_000)
    path = folder / "night.jsonl"
    rig.history.save(path)
    lines = path.read_text(encoding="utf-8").splitlines()
    rows = [json.loads(line) for line in lines]

    def plain_write() -> None:
        with open(folder / "plain.jsonl", "w", encoding="utf-8") as file:
            for row in rows:
                file.write(json.dumps(row) + "\n")

    found = in_turns(
        {
            "save": lambda: spent(lambda: rig.history.save(path)), "digest": lambda: spent(rig.history.digest),
            "dumps": lambda: spent(plain_write), "load": lambda: spent(lambda: ic.History.load(path)),
            "loads": lambda: spent(lambda: [json.loads(line) for line in lines]),
        },
        5,
    )  # fmt: skip
    for what, beside in (("save", "dumps"), ("digest", "dumps"), ("load", "loads")):
        times = ratio(found, what, beside)
        print(f"{what} of {len(rows):,} entries: {times:.2f} times json.{beside} of the same rows")
        verdict(f"{what}: at most 3 times", times <= 3)
    live, loaded = (
        float(subprocess.check_output([sys.executable, __file__, how, str(path)])) for how in ("live", "load")
    )
    print(f"memory of a loaded history: {loaded / live:.2f} times that of the live one ({live / 1e6:.0f} MB)")
    verdict("memory: at most twice", loaded / live <= 2)


def resident() -> int:
    return int(Path("/proc/self/statm").read_text(encoding="ascii").split()[1]) * 4096


def memory(how: str, path: str) -> float:
    """Return the bytes that a live rig takes, or a loaded history."""
    night(10)
    before = resident()
    kept = night(100_000) if how == "live" else None
    if how == "load":
        night(100_000).history.save(path)
        return float(subprocess.check_output([sys.executable, __file__, "only load", path]))
    if how == "only load":
        kept = ic.History.load(path)  # type: ignore[assignment]
    used = resident() - before
    del kept
    return used


def main() -> None:
    linear("crashes", crashes, 500, 20_000)
    linear("steps of a wide flow", wide_flow, 1_000)
    linear("firings of a rule with exceptions", firings, 500)
    with tempfile.TemporaryDirectory() as folder:
        histories(Path(folder))


if __name__ == "__main__":
    if len(sys.argv) > 1:
        print(memory(*sys.argv[1:]))
    else:
        main()
