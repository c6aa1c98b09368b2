"""`ironclock compare`: two histories, two scenarios or two policies, side by side."""

from __future__ import annotations

import json
import sys
from typing import TYPE_CHECKING, Any

import click

import ironclock as ic

from . import given_files
from .log_options import LogOptions
from .output import needing, output_file, print_text, say, screen, set_aside, told_written
from .progress_line import Meter

if TYPE_CHECKING:
    from ..history.comparison import Comparison


@click.command(short_help="Show what changed between two histories or scenarios.")
@click.argument("a", type=click.Path())
@click.argument("b", type=click.Path(), required=False)
@click.option("--policies", nargs=2, metavar="BEFORE AFTER", help="Two of the [policies] of the scenario A.")
@click.option("--job", help="The job that gets them. Default: every job that names one of them.")
@click.option("--jobs", default=20, show_default=True, type=click.IntRange(1), help="How many jobs to show.")
@click.option("--png", type=click.Path(dir_okay=False), help="Draw the jobs that differ.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON for a script.")
def compare(
    a: str, b: str | None, policies: tuple[str, str] | None, job: str | None, jobs: int, png: str | None, as_json: bool
) -> None:
    """Show what changed from A to B in outcomes, instants and effects.

    A and B are saved histories, logs, or scenario files (.toml), which are run. With --policies, A is a scenario that
    is run with each of the two. Exit code 1 if anything differs.
    """
    set_aside(png)
    if (b is None) == (policies is None):
        raise click.UsageError("Give two files, or one scenario and --policies BEFORE AFTER.")
    if policies is not None:
        before, after = (_with_policy(a, policy, policies, job) for policy in policies)
        names = policies
    else:
        assert b is not None
        before, after, names = _history(a), _history(b), _shortest(a, b)
    found = ic.compare(before, after, names=names)
    if png is not None:
        from ..reports.side_by_side import draw

        with needing("plot"), output_file(png, ".png") as place:
            draw(found, after.timeline, place, names)
    if as_json:
        totals = {name: [one, other] for name, one, other in found.totals}
        effects = [{"effect": name, "before": one, "after": other} for name, one, other in found.effects]
        made: dict[str, Any] = {
            "names": list(names),
            "same": found.same,
            "totals": totals,
            "jobs": found.rows(),
            "effects": effects,
        }
        say(json.dumps(made, indent=1, ensure_ascii=False))
    else:
        _show(found, names, after, jobs)
        if png is not None:
            told_written(png)
    sys.exit(0 if found.same else 1)


def _shortest(one: str, other: str) -> tuple[str, str]:
    """Return two names without the folders that they do not need."""
    short = one.replace("\\", "/").rpartition("/")[2], other.replace("\\", "/").rpartition("/")[2]
    return (one, other) if short[0] == short[1] else short


def _history(path: str) -> ic.History:
    if not path.endswith(".toml"):
        return LogOptions().history(path)
    return _ran(given_files.scenario_of(path))


def _ran(scenario: ic.Scenario) -> ic.History:
    with Meter(f"running {scenario.title[:24]}") as meter:
        ran = scenario.run(progress=meter.show)
    if ran.stopped:
        click.echo(f"Warning: {scenario.name}: {ran.stopped}", err=True)
    return ran.history


def _with_policy(path: str, policy: str, both: tuple[str, str], job: str | None) -> ic.History:
    return _ran(given_files.scenario_of(path).with_policy(policy, both, job))


def _show(found: Comparison, names: tuple[str, str], after: ic.History, most: int) -> None:
    from rich.table import Table
    from rich.text import Text

    from ..reports.readable_numbers import number
    from ..reports.side_by_side import rows

    console = screen()
    table = Table(box=None, pad_edge=False, header_style="bold")
    for name in ("", *names):
        table.add_column(Text(name), justify="right" if name else "left", overflow="fold")
    for name, one, other in found.totals:
        style = "" if one == other else "bold"
        table.add_row(Text(name), Text(number(one)), Text(number(other), style=style))
    console.print(table)
    console.print()
    if found.same:
        print_text(console, Text(f"✓ {found.words()}", style="green"))
        return
    for line in found.words(most).splitlines():
        print_text(console, Text(line, style="" if line.startswith("  ") else "bold"))
    console.print()
    for row in rows(found, after.timeline, console.width, min(most, 8)):
        console.print(row)
