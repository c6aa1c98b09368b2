"""The log of a real run with 200,000 rows: to read it and check three laws, beside pandas' own reading of the file. And
one of 5,000,000 rows, which is not held in the memory."""

from __future__ import annotations

import csv
import datetime as dt
import multiprocessing
import random
import resource
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from turns import verdict

ROWS = 200_000
LARGE = 5_000_000
HEAD = "job_id task queue key created attempt started finished status error host effect".split()  # noqa: SIM905


def make(path: Path, rows: int) -> None:
    """Write a log of three kinds of jobs, a tenth of whose attempts fail."""
    chance = random.Random(1)
    at = dt.datetime(2031, 3, 28, tzinfo=dt.timezone.utc)
    with path.open("w", newline="", encoding="utf-8") as file:
        out = csv.writer(file)
        out.writerow(HEAD)
        made = number = 0
        while made < rows:
            number += 1
            at += dt.timedelta(seconds=chance.expovariate(1))
            name, queue = (("release_hold", "desk"), ("charge_fare", "payments"), ("print_label", "desk"))[number % 3]
            begin = at
            for attempt in range(1, 6):
                begin += dt.timedelta(seconds=chance.expovariate(1))
                end = begin + dt.timedelta(seconds=chance.expovariate(2))
                bad = chance.random() < 0.1
                instants = [one.isoformat(timespec="milliseconds") for one in (at, begin, end)]
                out.writerow([
                    f"j{number:07d}", name, queue, f"B-{number}", instants[0], attempt, *instants[1:],
                    "error" if bad else "ok", "ConnectionError: the line is bad" if bad else "", f"w{number % 8}",
                    "charge" if queue == "payments" and not bad else "",
                ])  # fmt: skip
                made += 1
                if not bad:
                    break
                begin = end + dt.timedelta(seconds=30)


def by_pandas(path: str) -> None:
    """Read the file with pandas."""
    import pandas

    pandas.read_csv(path)


def repeat(one: Path, path: Path, times: int) -> None:
    """Write a log that many times, each with other jobs and other keys."""
    head, *rows = one.read_bytes().split(b"\n", 1)
    with path.open("wb") as file:
        file.write(head + b"\n")
        for number in range(times):
            own = b"%d-" % number
            file.write((b"\n" + rows[0]).replace(b"\nj", b"\n" + own + b"j").replace(b",B-", b"," + own + b"B-")[1:])


def check(path: str, **how: Any) -> None:
    """Read the file, and check three laws."""
    import ironclock as ic
    from ironclock.laws.log_check import check_logs

    laws = [
        ic.laws.once_per_key("charge"), ic.laws.attempts_at_most("charge_fare", 5),
        ic.laws.finishes_within("charge_fare", "30m"),
    ]  # fmt: skip
    checked = check_logs(path, laws, {}, **how)
    assert not any(checked.found)
    assert checked.in_parts == bool(how)


def by_us(path: str) -> None:
    """Read the file, and check three laws."""
    check(path)


def in_parts(path: str) -> None:
    """Read the file, and check three laws part by part."""
    check(path, large=0)


def _measured(
    work: Callable[[str], None], path: str, small: str, found: multiprocessing.SimpleQueue[tuple[float, float]]
) -> None:
    work(small)  # imports
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    began = time.perf_counter()
    work(path)
    found.put((time.perf_counter() - began, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1000))


def measured(work: Callable[[str], None], path: str, small: str) -> tuple[float, float]:
    """Return the seconds and the megabytes that work takes in a process of its own."""
    context = multiprocessing.get_context("spawn")
    found: Any = context.SimpleQueue()
    process = context.Process(target=_measured, args=(work, path, small, found))
    process.start()
    process.join()
    return found.get()  # type: ignore[no-any-return]


def main() -> None:
    """Print the ratios."""
    with tempfile.TemporaryDirectory() as folder:
        large, small = Path(folder) / "large.csv", Path(folder) / "small.csv"
        make(large, ROWS)
        make(small, 5_000)  # large enough to be read in columns, so that everything is imported
        several = [Path(folder) / f"{times}.csv" for times in (5, LARGE // ROWS)]
        for path in several:
            repeat(large, path, 5 if path is several[0] else LARGE // ROWS)
        million, millions = (measured(in_parts, str(path), str(small)) for path in several)
        theirs = measured(by_pandas, str(several[1]), str(small))
        rounds = [
            (measured(by_pandas, str(large), str(small)), measured(by_us, str(large), str(small))) for _ in range(3)
        ]
    seconds = sorted(ours[0] / theirs[0] for theirs, ours in rounds)[1]
    memory = sorted(ours[1] / theirs[1] for theirs, ours in rounds)[1]
    verdict(f"{seconds:.0f} times as long as pandas' reading of {ROWS:,} rows (at most 8)", seconds <= 8)
    verdict(f"{memory:.1f} times as much memory (at most 6)", memory <= 6)
    grown = millions[1] / million[1]
    verdict(f"{LARGE:,} rows take {grown:.2f} times the memory of {5 * ROWS:,} (flat: at most 1.2)", grown <= 1.2)
    longer = millions[0] / theirs[0]
    print(f"   {millions[1]:.0f} MB, and {longer:.1f} times as long as pandas, which takes {theirs[1]:.0f} MB")
    print(f"   {1e6 * sorted(ours[0] for _, ours in rounds)[1] / ROWS:.0f} us a row, three laws included")


if __name__ == "__main__":
    main()
