"""The report in the terminal: how many changes were noticed, and what nobody has noticed."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence
from itertools import groupby

from ..suite_report import Terminal, counted
from .outcomes import Asked, Tried

_NAME = 44
_LONG = 140
_LEFT_OUT = 10
_HEADS = {"job": "jobs", "schedule": "schedules", "effect": "effects", "code": "code"}


def report_notice(
    terminal: Terminal, asked: Asked, notes: Sequence[str], least: float | None, interrupted: bool
) -> None:
    """Write what the suite would notice, and what it would not."""
    terminal.write_sep("=", "would the tests notice?")
    for line in notice_lines(asked, interrupted):
        terminal.write_line(line)
    for note in notes:
        terminal.write_line(note)
    if least is not None and asked.percent < least:
        terminal.write_line(
            f"{asked.percent:.1f} % of the changes were noticed, below --ironclock-notice-min {least:g}", red=True
        )


def notice_lines(asked: Asked, interrupted: bool = False) -> Iterator[str]:
    """Yield the lines of the report."""
    if not asked.changes and not asked.left_out:
        yield "no test was asked: none that has passed uses a rig"
        return
    for kind, of_kind in groupby(asked.ordered(), key=lambda one: one.kind):
        by_name: dict[str, list[Tried]] = {}
        for one in of_kind:
            if one.state in ("noticed", "unnoticed"):
                by_name.setdefault(one.name, []).append(one)
        if by_name:
            yield _HEADS[kind]
        for name, changes in by_name.items():
            noticed = sum(one.state == "noticed" for one in changes)
            yield f"  {name:{_NAME}} {noticed} of {len(changes)} noticed"
            unnoticed = [one for one in changes if one.state == "unnoticed" and not one.reason]
            added = 0
            for one in sorted(unnoticed, key=lambda change: -change.weight):
                yield from told(one, with_test=not added)
                added += bool(one.test_to_add)
            if added > 1:
                yield f"    tests for {added - 1} more: see --ironclock-seams-page or --ironclock-notice-json"
    yield ""
    yield from summary(asked, interrupted)


def told(one: Tried, with_test: bool = True) -> Iterator[str]:
    """Yield what is to be said of a change that nobody has noticed. `with_test`: with the test that notices it."""
    yield f"    {'NEW: ' if one.is_new else ''}{one.sentence}"
    if one.kind == "code":
        for sign, text in (("-", one.before), ("+", one.after)):
            yield from (f"      {sign} {line}" for line in text.splitlines())
    if one.difference:
        before, after = (text if len(text) <= _LONG else f"{text[:_LONG]}..." for text in one.difference)
        yield f"      it was:  {before}"
        yield f"      it is:   {after}"
    if one.test_to_add and with_test:
        yield "      this test notices it:"
        yield textwrap.indent(one.test_to_add, " " * 8)


def summary(asked: Asked, interrupted: bool = False) -> Iterator[str]:
    """Yield how far it came, in a few lines."""
    rate = f" in {asked.seconds:.1f} s" if asked.seconds else ""
    yield f"{counted(asked.tests, 'test')} asked: {asked.runs:,} runs{rate}"
    if asked.kept:
        yield f"{counted(asked.kept, 'answer')} of an earlier session: nothing about them has changed"
    same = sum(one.state == "the same" for one in asked.changes)
    if same:
        yield f"{counted(same, 'change')} made no difference at all, and do not count"
    left = sum(one.state == "not tried" for one in asked.changes)
    if left:
        yield f"{counted(left, 'change')} not tried: the budget was used up, or there is no such policy or code"
    meant = [one for one in asked.changes if one.reason]
    if meant:
        yield f"{counted(len(meant), 'change')} not noticed, and meant so ([tool.ironclock] unnoticed)"
    if asked.left_out:
        yield f"{counted(len(asked.left_out), 'test')} left out:"
        yield from (f"  {test}: {why}" for test, why in list(asked.left_out.items())[:_LEFT_OUT])
        if len(asked.left_out) > _LEFT_OUT:
            yield f"  and {len(asked.left_out) - _LEFT_OUT} more"
    if interrupted:
        yield "it was interrupted: what it found so far is above"
    new = sum(one.is_new for one in asked.unnoticed)
    since = f", {new} of them new since the last run" if new else ""
    total = asked.noticed + len(asked.unnoticed)
    yield f"{asked.noticed} of {counted(total, 'change')} noticed: {asked.percent:.1f} %{since}"
