"""The report at the end of a session: what the search found, the fault coverage, the payload contracts."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Protocol

from .fault_coverage import FAILURES, FaultCoverage, Row
from .payload_contracts import Comparison
from .search_cache import BrokenInTest, SearchedTest

_SHORT = {
    "fails before": "before", "fails after": "after", "worker dies": "dies", "late": "late", "twice": "twice",
    "out of order": "order", "outage": "outage", "clock change": "clock",
}  # fmt: skip
_COLUMN = 7
_NAME = 24
_ALSO = 5
_LEFT_OUT = 10


class Terminal(Protocol):
    """What is asked of pytest's reporter."""

    def write_sep(self, sep: str, title: str | None = None, **markup: bool) -> None:
        """Write a line of signs with a title in it."""

    def write_line(self, line: str, **markup: bool) -> None:
        """Write a line."""


def report_search(terminal: Terminal, searched: Sequence[SearchedTest], interrupted: bool) -> None:
    """Write what the search found, each broken law like a failure."""
    if not searched and not interrupted:
        terminal.write_sep("=", "search")
        terminal.write_line("no test was searched: none that has passed uses a rig")
        return
    groups = grouped(searched)
    if groups:
        terminal.write_sep("=", "BROKEN LAWS")
    for (law, _), found in groups.items():
        test, shown = min(found, key=lambda one: not one[1].shrunk)
        terminal.write_sep("_", f"{law} is broken in {test}", red=True, bold=True)
        for line in shown.words.splitlines():
            terminal.write_line(line)
        others = [other for other, _ in found if other != test]
        if others:
            more = f" and {len(others) - _ALSO} more" if len(others) > _ALSO else ""
            terminal.write_line(f"  the same in {', '.join(others[:_ALSO])}{more}")
        terminal.write_line(f"  repeat it: {shown.repeat}")
        terminal.write_line("")
    terminal.write_sep("=", "search")
    for line in summary(searched, interrupted):
        terminal.write_line(line)


def grouped(searched: Iterable[SearchedTest]) -> dict[tuple[str, str], list[tuple[str, BrokenInTest]]]:
    """Return the broken laws by law and cause, with the tests in which they were found."""
    groups: dict[tuple[str, str], list[tuple[str, BrokenInTest]]] = {}
    for one in searched:
        for broken in one.broken:
            groups.setdefault((broken.law, broken.cause), []).append((one.test, broken))
    return groups


def summary(searched: Sequence[SearchedTest], interrupted: bool) -> list[str]:
    """Return how far the search came, in a few lines."""
    done = [one for one in searched if not one.left_out]
    new = [one for one in done if not one.kept]
    runs, seconds = sum(one.runs for one in new), sum(one.seconds for one in new)
    shrinking = sum(one.shrinking for one in new)
    rate = f" ({(runs + shrinking) / seconds:,.0f} a second)" if seconds > 0.5 else ""
    lines = [f"{counted(len(new), 'test')} searched: {runs:,} runs and {shrinking:,} for shrinking{rate}"]
    kept = len(done) - len(new)
    if kept:
        lines.append(f"{counted(kept, 'test')} not searched again: nothing about them has changed")
    fitting, tried = sum(one.fitting for one in done), sum(one.tried for one in done)
    lines.append(f"{tried:,} of {fitting:,} single faults that fit were tried")
    early = sum(one.ended_early for one in done)
    if early:
        lines.append(f"{early:,} runs in which the test itself raised an error; the laws were checked there too")
    outages = sum(one.in_outage for one in done)
    if outages:
        lines.append(
            f"{outages:,} runs that ended in an outage, or before anything was tried again after a lasting fault; "
            "their laws were not checked"
        )
    too_long = sum(one.too_long for one in done)
    if too_long:
        lines.append(f"{too_long:,} runs that took too long and were given up")
    for one in done:
        lines += [f"{one.test}: {note}" for note in one.notes]
    left_out = [one for one in searched if one.left_out]
    if left_out:
        lines.append(f"{counted(len(left_out), 'test')} left out:")
        lines += [f"  {one.test}: {one.left_out}" for one in left_out[:_LEFT_OUT]]
        if len(left_out) > _LEFT_OUT:
            lines.append(f"  and {len(left_out) - _LEFT_OUT} more")
    if interrupted:
        lines.append("the search was interrupted: what it found so far is above")
    groups = len(grouped(searched))
    lines.append(f"{counted(groups, 'law')} broken" if groups else "no law was broken")
    return lines


def report_coverage(terminal: Terminal, coverage: FaultCoverage, with_search: bool, least: float | None) -> None:
    """Write the fault coverage as a table."""
    terminal.write_sep("=", "fault coverage")
    for line in coverage_lines(coverage, with_search):
        terminal.write_line(line)
    if least is not None and coverage.percent < least:
        terminal.write_line(
            f"the fault coverage is {coverage.percent:.1f} %, below --ironclock-seams-min {least:g}", red=True
        )


def coverage_lines(coverage: FaultCoverage, with_search: bool) -> list[str]:
    """Return the fault coverage as lines of a table of fixed width."""
    rows = coverage.rows
    if not rows:
        return ["nothing to tell: no test has run a job in a rig"]
    lines = [f"{'':{_NAME}}{''.join(f'{_SHORT[failure]:>{_COLUMN}}' for failure in FAILURES)}"]
    kind = ""
    for row in rows:
        if row.kind != kind:
            kind = row.kind
            lines.append(f"{kind}s")
        name = f"  {row.name}"
        if len(name) >= _NAME:
            lines.append(name)
            name = ""
        lines.append(f"{name:{_NAME}}{''.join(f'{cell_word(row, failure):>{_COLUMN}}' for failure in FAILURES)}")
    lines += [
        "",
        "a number: by so many tests; .: never; -: does not fit"
        + ("; ok: by the search, every law held; BROKEN: a law was broken" if with_search else ""),
        f"{coverage.covered} of {coverage.fitting} failures were put there: {coverage.percent:.1f} %",
    ]
    return lines


def cell_word(row: Row, failure: str) -> str:
    """Return what a cell of the table says."""
    state = row.state(failure)
    if state == "tested":
        return str(len(row.cells[failure].tests))
    return {"broken": "BROKEN", "survived": "ok", "untried": ".", "does not fit": "-"}[state]


def report_payloads(terminal: Terminal, comparison: Comparison, path: Path, written: str) -> None:
    """Write what the payload contracts say. `written` says in words what became of the file."""
    terminal.write_sep("=", "payload contracts")
    for line in comparison.broken:
        terminal.write_line(line, red=True)
    for line in comparison.notes:
        terminal.write_line(line)
    terminal.write_line(f"{path}: {written}")


def counted(count: int, what: str) -> str:
    """Return a number of things in words: ``1 test``, ``2 tests``."""
    return f"{count:,} {what}{'s' * (count != 1)}"
