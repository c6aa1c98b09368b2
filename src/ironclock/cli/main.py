"""The command line: the group of all commands.

Exit codes: 0 as expected, 1 a broken expectation, 2 a command or file that cannot be used.
"""

from __future__ import annotations

import itertools
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

import ironclock as ic

from ..foundation.instants import Timeline
from .log_options import log_options
from .output import needing, screen, shown_error, write
from .progress_line import Waiting

if TYPE_CHECKING:
    from rich.console import Console

    from ..schedules.schedule import Schedule

_CONTEXT = {"help_option_names": ["-h", "--help"]}


_ELSEWHERE = {
    "check": "log_commands", "compare": "compare_command", "completion": "completion_command", "estimate": "log_commands",
    "export": "export_command", "forecast": "forecast_command", "probe": "probe_command", "run": "run_command",
}  # fmt: skip
"""The module of each command. It is imported only if the command is used, so that each one answers at once."""


class _Commands(click.Group):
    """Shows errors of Iron Clock as one clear line, with exit code 2."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted([*super().list_commands(ctx), *_ELSEWHERE])

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name in _ELSEWHERE:
            from importlib import import_module

            made: click.Command = getattr(import_module(f".{_ELSEWHERE[cmd_name]}", __package__), cmd_name)
            return made
        return super().get_command(ctx, cmd_name)

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except ic.IronClockError as error:
            click.echo(f"Error: {error}", err=True)
            sys.exit(2)


@click.group(cls=_Commands, context_settings=_CONTEXT)
@click.version_option(ic.__version__, prog_name="ironclock")
def main() -> None:
    """Test background and scheduled jobs in simulated time.

    Start with `ironclock demo`: one evening at a made-up ferry company, in less than a second.
    """


@main.command(short_help="Run an evening at a made-up ferry company.")
@click.option("--seed", default=11, show_default=True, help="Every random choice follows from it.")
@click.option("--save", type=click.Path(dir_okay=False), help="Save the history into this file, as JSON Lines.")
@click.option("--story", "tell", is_flag=True, help="Show the whole run as well, entry by entry.")
def demo(seed: int, save: str | None, tell: bool) -> None:
    """Run the ferry line's evening: holds, a harbour office that is down, a refused card, a late bank."""
    from . import demo_story as evening

    screen, width = _screen()
    rig = ic.Rig(start=evening.START, zone=evening.ZONE, seed=seed)
    screen.print("An evening at Tern Line, a made-up ferry company", style="bold")
    screen.print(f"Its own code runs on a simulated clock, from {rig.now:%Y-%m-%d %H:%M} in {evening.ZONE}.\n")
    seen = evening.evening(rig, lambda line: screen.print(line, markup=False))
    screen.print()
    _report(rig.history, screen, width)
    if tell:
        screen.print()
        screen.print(rig.history.story(), markup=False, soft_wrap=True)
    screen.print()
    broken = 0
    for claim, held in evening.as_expected(rig, seen):
        screen.print(f"[green]✓[/] {claim}" if held else f"[bold red]✗ {claim}[/]")
        broken += not held
    if save:
        rig.history.save(save)
        screen.print(f"\nSaved to {save}; look at it again with: ironclock show {save}", markup=False, soft_wrap=True)
    sys.exit(1 if broken else 0)


@main.command(short_help="Show ten ways in which background jobs go wrong.")
@click.argument("names", nargs=-1)
@click.option("--list", "listed", is_flag=True, help="List their names.")
def mistakes(names: tuple[str, ...], listed: bool) -> None:
    """Show what goes wrong with background jobs: NAMES, or all ten.

    Each mistake is a story at the ferry line, with the bug, the law that it breaks, the entries of the history that prove
    it, and the fix. Exit code 1 if one of them is not as it should be.
    """
    from . import mistakes_command as shown

    if listed:
        for name in shown.names():
            click.echo(name)
        return
    screen, _ = _screen()
    wrong = shown.show(names, lambda line, style: screen.print(line, style=style, markup=False, soft_wrap=True))
    sys.exit(1 if wrong else 0)


@main.command(short_help="Show a saved history: table, timeline, page, figures.")
@click.argument("file", type=click.Path())
@click.option("--job", help="Show what happened to one job, by its id.")
@click.option("--story", "tell", is_flag=True, help="Show the whole run, entry by entry.")
@click.option("--jobs", default=40, show_default=True, type=click.IntRange(1), help="How many jobs to show.")
@click.option("--html", type=click.Path(dir_okay=False), help="Write the report as one HTML page.")
@click.option("--png", type=click.Path(file_okay=False), metavar="FOLDER", help="Draw timeline, queue depth, retries "
              "and starts by hour into this folder.")  # fmt: skip
@click.option("--json", "as_json", is_flag=True, help="Print the jobs and their attempts as JSON Lines.")
@log_options
def show(
    file: str, job: str | None, tell: bool, jobs: int, html: str | None, png: str | None, as_json: bool,
    columns: tuple[str, ...], outcomes: tuple[str, ...], mapping: str | None, zone: str | None,
) -> None:  # fmt: skip
    """Show a history that was saved with `History.save`, `--save` or pytest's --ironclock-save, or a log.

    Without an option it prints the jobs, their timeline with waits drawn to scale, and the depth of each queue.
    """
    from . import given_files as histories

    history = histories.read(file, columns, outcomes, mapping, zone)
    if html is not None or png is not None:
        _write_report(history, file, html, png)
        return
    if as_json:
        import json

        from ..history.job_records import job_records

        for record in job_records(history):
            click.echo(json.dumps(record.as_dict()))
        return
    screen, width = _screen()
    if job is not None:
        from ..errors import nearest
        from ..history.narrative import story_of

        known = {entry.job for entry in history if entry.job}
        if job not in known:
            raise ic.UnknownJob(f"{file} has no job {job!r}; {nearest(job, known)}")
        screen.print(story_of(history, job), markup=False, soft_wrap=True)
    elif tell:
        screen.print(history.story(), markup=False, soft_wrap=True)
    else:
        _report(history, screen, width, jobs)


def _write_report(history: ic.History, file: str, html: str | None, png: str | None) -> None:
    if html is not None:
        from ..reports.html_page import page

        with Waiting(f"writing {html}"):
            write(html, page(history, file))
        click.echo(f"wrote {html}")
    if png is not None:
        with needing("plot"), shown_error(png), Waiting("drawing"):
            from ..reports.history_figures import draw_all

            for path in draw_all(history, png):
                click.echo(f"wrote {path}")


@main.command(short_help="Show when a cron expression fires next.")
@click.argument("expression")
@click.option("--zone", default="UTC", show_default=True, help="The time zone of the expression.")
@click.option("--from", "start", help="Where to begin: ISO 8601, in that zone. Default: now.")
@click.option("--count", default=10, show_default=True, type=click.IntRange(1, 10_000), help="How many firings.")
@click.option("--gap", type=click.Choice(["shift", "skip"]), help="What happens to a time that a clock change skips.")
@click.option("--fold", type=click.Choice(["first", "both"]), help="Which of a time that occurs twice fires.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for a script.")
@click.option("--ics", type=click.Path(dir_okay=False), help="Write the firings as iCalendar (RFC 5545).")
@click.option("--png", type=click.Path(dir_okay=False), help="Draw the year by hour of day.")
def when(
    expression: str, zone: str, start: str | None, count: int, gap: Any, fold: Any, as_json: bool,
    ics: str | None, png: str | None,
) -> None:  # fmt: skip
    """Show when a cron EXPRESSION fires next, in local time and UTC, and what clock changes do to it.

    Five fields, or six with seconds first, or a nickname such as @daily. Write it in quotes.
    """
    import datetime as dt
    import json

    from .when_command import rows

    schedule = ic.cron(expression, zone, gap=gap, fold=fold)
    bound = schedule.zone or dt.timezone.utc
    timeline = Timeline(bound)
    present = dt.datetime.now(dt.timezone.utc).replace(microsecond=0)
    now = timeline.ns(present if start is None else start)
    lines = list(rows(schedule, bound, now, count))
    if ics is not None:
        from ..reports.calendar_export import icalendar

        instants = list(itertools.islice(_firings(schedule, now), count))
        write(ics, icalendar(expression, instants, timeline.ns(present)))
    if png is not None:
        with needing("plot"), shown_error(png):
            from ..reports.calendar_export import year_map

            year_map(schedule, bound, timeline.at(now).year, expression, png)
    if as_json:
        for local, utc, remark in lines:
            click.echo(json.dumps({"local": local, "utc": utc, "remark": remark}))
        return
    screen, _ = _screen()
    screen.print(expression, style="bold", markup=False)
    screen.print(f"{schedule.describe()}\n", markup=False)
    if not lines:
        screen.print("It does not fire again.")
    for local, utc, remark in lines:
        style = "yellow" if remark.startswith("~") else "magenta" if remark else ""
        screen.print(f"{local}   {utc}   {remark}".rstrip(), style=style, markup=False, soft_wrap=True)


def _firings(schedule: Schedule, start_ns: int) -> Iterator[int]:
    at = schedule.next_ns(start_ns - 1)
    while at is not None:
        yield at
        at = schedule.next_ns(at)


@main.command(short_help="Warn about cron lines that do not do what they say.")
@click.argument("files", nargs=-1, required=True, type=click.Path())
@click.option("--zone", default="UTC", show_default=True, help="The time zone of lines without one.")
@click.option("--from", "start", help="The day from which clock changes are checked: ISO 8601. Default: now.")
@click.option("--system/--user", default=None, help="Lines have a user before the command. Default: by the path.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for a script, one for each warning.")
def lint(files: tuple[str, ...], zone: str, start: str | None, system: bool | None, as_json: bool) -> None:
    """Warn about cron lines in crontab or TOML FILES that do not do what they seem to say.

    Reads [tool.ironclock.schedules] or [schedules] of a .toml file, and crontabs with CRON_TZ lines. Exit code 1 if there
    is a warning.
    """
    import datetime as dt

    from ..schedules.cron_warnings import lint as check_lines
    from ..schedules.crontab import read

    timeline = Timeline(zone)
    now = timeline.ns(dt.datetime.now(dt.timezone.utc) if start is None else start)
    lines = [line for file in files for line in read(file, system=system)]
    found = check_lines(lines, zone, now)
    if as_json:
        import json
        from dataclasses import asdict

        for one in found:
            click.echo(json.dumps(asdict(one), ensure_ascii=False))
        sys.exit(1 if found else 0)
    screen, _ = _screen()
    for one in found:
        screen.print(
            str(one), style="red" if one.level in ("error", "never fires") else "", markup=False, soft_wrap=True
        )
    screen.print(f"{len(lines)} schedules, {len(found)} warnings.")
    sys.exit(1 if found else 0)


def _screen() -> tuple[Console, int]:
    made = screen()
    return made, made.width


def _report(history: ic.History, screen: Console, width: int, most: int = 40) -> None:
    from ..reports.terminal import run_report

    screen.print(run_report(history, width, most), width=width)


if __name__ == "__main__":
    main()
