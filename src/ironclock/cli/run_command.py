"""`ironclock run`: run a scenario file, and compare it with what it expects."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import ironclock as ic

from . import given_files
from .output import output_file, print_text, say, screen, set_aside, write
from .progress_line import Meter

if TYPE_CHECKING:
    from ..scenario.scenario import Ran

_LOOK_S = 0.3


@click.command(short_help="Run a scenario file, and check what it expects.")
@click.argument("file", type=click.Path(), required=False)
@click.option("--seed", help="The seed, in place of the one in the file.")
@click.option("--load", type=click.FloatRange(min=0, min_open=True), default=1.0, help="Multiply rates and counts.")
@click.option("--jobs", type=click.IntRange(0), default=0, help="Show this many jobs, with their timeline.")
@click.option("--save", type=click.Path(dir_okay=False), help="Save the history into this file, as JSON Lines.")
@click.option("--html", type=click.Path(dir_okay=False), help="Write the report as one HTML page.")
@click.option("--junit", type=click.Path(dir_okay=False), help="Write the outcomes as JUnit XML, for CI.")
@click.option("--watch", is_flag=True, help="Run again whenever the file, or Python code beside it, changes.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON for a script.")
@click.option(
    "--strict", is_flag=True, help="Fail as well if the file expects nothing, or an expectation could not fail."
)
@click.option("--schema", is_flag=True, help="Print the JSON Schema of scenario files, and do not run anything.")
def run(
    file: str | None, seed: str | None, load: float, jobs: int, save: str | None, html: str | None, junit: str | None,
    watch: bool, as_json: bool, strict: bool, schema: bool,
) -> None:  # fmt: skip
    """Run a scenario FILE (TOML) in simulated time, and show what was found for each expectation.

    Try examples/scenarios/harbour_outage.toml. Exit code 0: everything is as expected, 1: something is not, 2: the file
    cannot be used, and the error names line and column.
    """
    if schema:
        click.echo(json.dumps(ic.Scenario.schema(), indent=1, ensure_ascii=False))
        return
    if file is None:
        raise click.UsageError("Missing argument 'FILE'.")
    if watch and file == "-":
        raise click.UsageError("--watch needs a file; standard input does not change")
    if watch:
        _watch(file)
        return
    set_aside(save, html, junit)
    scenario = given_files.scenario_of(file)
    began = time.perf_counter()
    with Meter("running") as meter:
        ran = scenario.run(_seed(seed), load, meter.show)
    took = time.perf_counter() - began
    if save is not None:
        with output_file(save) as place:
            ran.history.save(place)
    if junit is not None:
        write(junit, _junit(ran, took))
    if html is not None:
        from ..reports.html_page import page

        laws = [(outcome.words, [ic.laws.Breach(outcome.found)] if outcome.found else []) for outcome in ran.outcomes]
        write(html, page(ran.history, scenario.title, laws, "Expectations", ("as expected", "is not so")))
    if as_json:
        say(json.dumps(_as_json(ran), indent=1, ensure_ascii=False))
    else:
        _show(ran, jobs)
    says_little = strict and (not ran.outcomes or any(outcome.idle for outcome in ran.outcomes))
    sys.exit(0 if ran.met and not says_little else 1)


def _seed(text: str | None) -> int | str | None:
    return int(text) if text is not None and text.lstrip("-").isdigit() else text


def _show(ran: Ran, jobs: int) -> None:
    from rich.text import Text

    from ..reports.terminal import run_report

    console = screen()
    print_text(console, Text(ran.scenario.title, style="bold"))
    if jobs:
        console.print(run_report(ran.history, console.width, jobs), width=console.width)
        console.print()
    else:
        states: dict[str, int] = {}
        for job in ran.rig.jobs():
            states[job.state] = states.get(job.state, 0) + 1
        total = ", ".join(f"{count:,} {state}" for state, count in sorted(states.items())) or "no jobs"
        words = f"{total}; now {ran.rig.now:%Y-%m-%d %H:%M:%S}, digest {ran.history.digest()[:16]}\n"
        console.print(Text(words, style="dim"))
    for one in ran.outcomes:
        if one.met:
            print_text(console, Text(f"✓ {one.words}", style="green"))
            if one.idle:
                words = f"  {ran.scenario.name}:{one.line}: it could not have failed: {one.idle}"
                print_text(console, Text(words, style="yellow"))
            continue
        print_text(console, Text(f"✗ {one.words}", style="bold red"))
        print_text(console, Text(f"  {ran.scenario.name}:{one.line}: {one.found}"))
    if ran.stopped:
        print_text(console, Text(f"✗ {ran.stopped}", style="bold red"))
    if not ran.outcomes:
        console.print(Text("The file expects nothing; add [[expect]].", style="yellow"))


def _junit(ran: Ran, seconds: float) -> str:
    from ..reports.open_formats import Case, junit

    cases = [Case(one.words, f"{ran.scenario.name}:{one.line}", one.found) for one in ran.outcomes]
    # The time of the run belongs to no expectation: it is that of another case.
    cases.append(Case("the run comes to its end", f"{ran.scenario.name}:1", ran.stopped, seconds))
    return junit(ran.scenario.title, cases)


def _as_json(ran: Ran) -> dict[str, Any]:
    return {
        "file": ran.scenario.name, "title": ran.scenario.title, "met": ran.met, "stopped": ran.stopped,
        "outcomes": [
            {"words": one.words, "line": one.line, "met": one.met, "found": one.found, "idle": one.idle}
            for one in ran.outcomes
        ],
        "jobs": [
            {"id": job.id, "state": job.state, "attempts": job.attempts_made, "queue": job.queue} for job in
            ran.rig.jobs()
        ],
        "digest": ran.history.digest(),
    }  # fmt: skip


def _watch(file: str) -> None:
    """Run the file in a new process, so that changed code is imported again, and once more after each change."""
    arguments = [argument for argument in sys.argv[1:] if argument != "--watch"]
    seen: dict[Path, float] | None = None
    try:
        while True:
            present = _changed_at(Path(file))
            if present != seen:
                seen = present
                if sys.stdout.isatty():
                    click.clear()
                subprocess.run([sys.executable, "-m", "ironclock.cli.main", *arguments], check=False)
                click.echo(f"\nwatching {file} and the code beside it; Ctrl-C ends this", err=True)
            time.sleep(_LOOK_S)
    except KeyboardInterrupt:
        click.echo("", err=True)


def _changed_at(file: Path) -> dict[Path, float]:
    made = {}
    for path in (file, *sorted(file.resolve().parent.rglob("*.py"))):
        try:
            made[path] = path.stat().st_mtime
        except OSError:
            continue
    return made
