"""`ironclock lint`: warnings about cron lines."""

from __future__ import annotations

import datetime as dt
import json
import sys
from dataclasses import asdict

import click

from ..foundation.example_files import example
from ..foundation.instants import Timeline
from ..schedules.cron_warnings import lint as check_lines
from ..schedules.crontab import read
from .given_files import of_standard_input, with_names
from .output import print_text, screen


@click.command(short_help="Warn about cron lines that do not do what they say.")
@click.argument("files", nargs=-1, required=True, type=click.Path())
@click.option("--zone", default="UTC", show_default=True, help="The time zone of lines without one.")
@click.option("--from", "start", help="The day from which clock changes are checked: ISO 8601. Default: now.")
@click.option("--system/--user", default=None, help="Lines have a user before the command. Default: by the path.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for a script, one for each warning.")
def lint(files: tuple[str, ...], zone: str, start: str | None, system: bool | None, as_json: bool) -> None:
    """Warn about cron lines in crontab or TOML FILES that do not do what they seem to say.

    Reads [tool.ironclock.schedules] or [schedules] of a .toml file, and crontabs with CRON_TZ lines. Exit code 1 if
    there is a warning.
    """
    timeline = Timeline(zone)
    now = timeline.ns(dt.datetime.now(dt.timezone.utc) if start is None else start)
    lines = [line for file in files for line in read(example(of_standard_input(file)), system=system)]
    found = check_lines(lines, zone, now)
    if as_json:
        for one in found:
            click.echo(with_names(json.dumps(asdict(one), ensure_ascii=False)))
        sys.exit(1 if found else 0)
    console = screen()
    for one in found:
        print_text(
            console,
            with_names(str(one)),
            style="red" if one.level in ("error", "never fires") else "",
        )
    console.print(f"{len(lines)} schedules, {len(found)} warnings.")
    sys.exit(1 if found else 0)
