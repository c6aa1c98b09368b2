"""`ironclock export`: a history in an open format."""

from __future__ import annotations

import click

from .log_options import LogOptions, log_options
from .output import needing, output_file, told_written
from .progress_line import Waiting

_FORMATS = ("jsonl", "csv", "parquet", "trace", "otlp", "junit", "ics")


@click.command(short_help="Write a history in an open format.")
@click.argument("history", type=click.Path())
@click.argument("out", type=click.Path(dir_okay=False))
@click.option("--as", "form", type=click.Choice(_FORMATS), help="The format. Default: by the ending of OUT.")
@log_options
def export(
    history: str, out: str, form: str | None, reading: LogOptions,
) -> None:  # fmt: skip
    """Write a saved HISTORY, or a log, in an open format to OUT. A - is standard input, or output (with --as).

    .jsonl: JSON Lines; .csv and .parquet: a table of attempts; .trace.json Trace Event JSON for timeline viewers,
    .otlp.json OpenTelemetry spans, .xml JUnit, .ics iCalendar.
    """
    from ..reports.open_formats import export as written

    if out == "-" and form is None:
        raise click.UsageError("OUT is -, and standard output has no ending that names a format; give --as")
    found = reading.history(history)
    with needing("parquet"), Waiting(f"writing {out}"), output_file(out) as path:
        name = written(found, path, form)
    told_written(out, f" ({name})")
