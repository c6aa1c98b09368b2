"""The options that say how to read a log."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import click


def log_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that say how to read a log."""
    for option in (
        click.option("--column", "columns", multiple=True, metavar="FIELD=COLUMN", help="Which column holds what: "
                     "job, name, queue, key, args, enqueued, due, attempt, started, ended, outcome, error, worker, "
                     "effect."),
        click.option("--outcome", "outcomes", multiple=True, metavar="WORD=OUTCOME", help="What a word of the log's "
                     "outcome means: done, failed, timed-out, crashed or dead."),
        click.option("--columns", "mapping", type=click.Path(), metavar="FILE", help="A TOML file that says this: "
                     "[columns] and [outcomes] as above, and zone."),
        click.option("--keep-doubles", is_flag=True, help="Let equal rows count as several attempts. Default: as one."),
        click.option("--bad-rows", type=click.FloatRange(0, 100), metavar="PERCENT", default=10.0, show_default=True,
                     help="Refuse a log with a larger share of rows that cannot be read, have no end, end before they "
                     "start, or are there twice."),
        click.option("--zone", help="The zone of times without an offset. Default: UTC."),
    ):  # fmt: skip
        command = option(command)
    return command
