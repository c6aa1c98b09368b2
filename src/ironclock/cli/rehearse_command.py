"""`ironclock rehearse`: the log of a real run, with other policies, workers, schedules or code."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import ironclock as ic

from ..foundation.example_files import example
from . import given_files
from .log_options import LogOptions, log_options
from .output import needing, output_file, print_text, say, screen, set_aside, told_written, write
from .progress_line import Meter

if TYPE_CHECKING:
    from ..rehearsal.rehearsal import Rehearsal


@click.command(short_help="Let a log happen again, with other policies or code.")
@click.argument("logs", type=click.Path(), nargs=-1, metavar="LOG...")
@click.option(
    "--policies",
    multiple=True,
    type=click.Path(),
    metavar="FILE",
    help="A TOML file with what is to be "
    "another: [jobs.NAME], [policies], [workers], [queues], [schedules]. Can be given several times.",
)
@click.option(
    "--with",
    "code",
    metavar="MODULE",
    help="Run the real code: the functions of this module with the names of the jobs.",
)
@click.option("--workers", type=click.IntRange(1), help="How many workers there are, in place of those of the log.")
@click.option(
    "--setup",
    metavar="MODULE:FUNCTION",
    help="A function that gets the rig before the first job, to make services, effects and taps.",
)
@click.option(
    "--read-args",
    metavar="MODULE:FUNCTION",
    help="A function that gets what the log has as arguments, and "
    "returns a list or a dict of them. Default: they are JSON.",
)
@click.option(
    "--fail-at",
    "fails_at",
    multiple=True,
    metavar="JOB=PLACE",
    help="Where in its code an attempt fails "
    "that failed in the log: start, end, 'before NAME' or 'after NAME' of an effect. Default: start.",
)
@click.option(
    "--from-code",
    multiple=True,
    metavar="JOB",
    help="A job that the code enqueues itself; those of the log are left out.",
)
@click.option("--since", metavar="INSTANT", help="Only jobs that were enqueued from then on.")
@click.option("--until", metavar="INSTANT", help="Only jobs that were enqueued before then.")
@click.option("--jobs", "only", metavar="NAMES", help="Only these job types, with commas between them.")
@click.option(
    "--sample",
    type=click.FloatRange(0, 100, min_open=True),
    metavar="PERCENT",
    help="Only a share of the jobs of each type. Workers are not limited then.",
)
@click.option("--laws", "laws", help="Laws that must hold: FILE.toml with [[laws]], FILE.py or FILE.py:NAME.")
@click.option(
    "--fail-if",
    "conditions",
    multiple=True,
    metavar="FIGURE+[N|N%]",
    help="Exit code 1 if a figure is "
    "higher than in the log, or by more than that: dead+, p95+10%, attempts+200, later+5, effects-lost+, "
    "laws+.",
)
@click.option(
    "--replications",
    type=click.IntRange(1),
    default=1,
    show_default=True,
    help="How often to run each candidate, with other luck for what the log cannot say.",
)
@click.option("--seed", default=0, show_default=True, help="Everything that is drawn by lot follows from it.")
@click.option("--redact", is_flag=True, help="Show codes in place of arguments, keys, results and the words of errors.")
@click.option("--story", metavar="ID", help="Tell what happened to this job, as logged and in each candidate.")
@click.option(
    "--show", default=5, show_default=True, type=click.IntRange(0), help="How many jobs to show of each difference."
)
@click.option(
    "--html", type=click.Path(dir_okay=False), help="Write the report, both sides on one scale, as one HTML page."
)
@click.option("--show-arguments", is_flag=True, help="Let the page show arguments.")
@click.option("--png", type=click.Path(dir_okay=False), help="Draw the jobs that differ.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON for a script.")
@log_options
def rehearse(
    logs: tuple[str, ...], policies: tuple[str, ...], code: str | None, workers: int | None, setup: str | None,
    read_args: str | None, fails_at: tuple[str, ...], from_code: tuple[str, ...], since: str | None,
    until: str | None, only: str | None, sample: float | None, laws: str | None, conditions: tuple[str, ...],
    replications: int, seed: int, redact: bool, story: str | None, show: int, html: str | None,
    show_arguments: bool, png: str | None, as_json: bool, reading: LogOptions,
) -> None:  # fmt: skip
    """Let the LOG of a real run happen once more, with other policies, workers, schedules or code, and show what
    differs.

    First the log is rehearsed as it is, to see how much of it comes back. Then each candidate is compared with that.
    What a file of --policies does not say is as in the log. Without --with, jobs take as long and fail as in the log.

    Exit code 1 if a condition of --fail-if is met, 2 if the log or a file cannot be read.
    """
    from ..rehearsal.rehearsal import must_be_conditions

    set_aside(html, png)
    if not logs:
        raise click.UsageError("Give at least one LOG.")
    must_be_conditions(conditions)
    mapping = laws if laws is not None and laws.endswith(".toml") else None
    stated = [] if laws is None else [law for _, law in given_files.laws_from(laws)]
    history = reading.history(logs, mapping)
    _search_beside(logs)
    module = None if code is None else given_files.module_from(code)
    with Meter("rehearsing") as meter:
        rehearsal = ic.rehearse(
            history, policies=list(policies) or None, workers=workers, jobs=module, setup=_function(setup),
            read_args=_function(read_args), fails_at=given_files.pairs(fails_at, "--fail-at"), from_code=from_code,
            since=since, until=until, only=[name.strip() for name in (only or "").split(",") if name.strip()],
            sample=1.0 if sample is None else sample / 100, laws=stated, replications=replications, seed=seed,
            redact=redact, progress=meter.show,
        )  # fmt: skip
    del history
    title = " and ".join(Path(log).name if log != "-" else "standard input" for log in logs)
    if html is not None:
        from ..rehearsal.rehearsal_page import page

        write(html, page(rehearsal, title, show_arguments))
    if png is not None:
        _draw(rehearsal, png)
    failing = rehearsal.failing(conditions)
    if story is not None:
        say(rehearsal.story(story))
    elif as_json:
        from ..rehearsal.rehearsal_json import as_dict

        say(json.dumps({**as_dict(rehearsal), "failing": failing}, indent=1, ensure_ascii=False))
    else:
        from rich.text import Text

        from ..rehearsal.rehearsal_report import report

        console = screen()
        for part in report(rehearsal, title, show, console.width):
            if isinstance(part, Text) and not part.spans:
                print_text(console, part)
            else:
                console.print(part, soft_wrap=True)
        for path in (html, png):
            if path is not None:
                told_written(path)
    for words in failing:
        click.echo(f"✗ {words}", err=True)
    sys.exit(1 if failing else 0)


def _draw(rehearsal: Rehearsal, path: str) -> None:
    if not rehearsal.candidates:
        raise click.UsageError("--png draws what differs; give --policies, --workers or --with.")
    from ..reports.side_by_side import draw

    candidate = rehearsal.candidates[-1]
    with needing("plot"), output_file(path, ".png") as place:
        draw(candidate.comparison, rehearsal.recording.timeline, place, (rehearsal.as_logged.name, candidate.name))


def _search_beside(logs: tuple[str, ...]) -> None:
    """Let modules be searched in the folder of the command, and beside the log."""
    for folder in (str(Path(example(logs[0])).resolve().parent), str(Path.cwd())):
        if folder not in sys.path:
            sys.path.insert(0, folder)


def _function(name: str | None) -> Any:
    from ..scenario.values import callable_of

    if name is None:
        return None
    if ":" not in name:
        raise ic.InputError(f"the function is {name!r}; give MODULE:FUNCTION")
    return callable_of(name)
