"""`ironclock show`: what is in a saved history or a log, as table, page or figures."""

from __future__ import annotations

import json

import click

import ironclock as ic

from .log_options import LogOptions, log_options
from .output import needing, print_text, screen, set_aside, shown_error, told_written, write
from .progress_line import Waiting


@click.command(short_help="Show a saved history: table, timeline, page, figures.")
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
    reading: LogOptions,
) -> None:  # fmt: skip
    """Show a history that was saved with `History.save`, `--save` or pytest's --ironclock-save, or a log.

    Without an option it prints the jobs, their timeline with waits drawn to scale, and the depth of each queue.
    """
    set_aside(html)
    history = reading.history(file)
    if html is not None or png is not None:
        _write_report(history, file, html, png)
        return
    if as_json:
        from ..history.job_records import job_records

        for record in job_records(history):
            click.echo(json.dumps(record.as_dict()))
        return
    console = screen()
    if job is not None:
        from ..errors import nearest
        from ..history.narrative import story_of

        known = {entry.job for entry in history if entry.job}
        if job not in known:
            raise ic.UnknownJob(f"{file} has no job {job!r}; {nearest(job, known)}")
        print_text(console, story_of(history, job))
    elif tell:
        print_text(console, history.story())
    else:
        from ..reports.terminal import run_report

        console.print(run_report(history, console.width, jobs), width=console.width)


def _write_report(history: ic.History, file: str, html: str | None, png: str | None) -> None:
    if html is not None:
        from ..reports.html_page import page

        with Waiting(f"writing {html}"):
            write(html, page(history, file))
        told_written(html)
    if png is not None:
        with needing("plot"), shown_error(png), Waiting("drawing"):
            from ..reports.history_figures import draw_all

            for path in draw_all(history, png):
                told_written(path)
