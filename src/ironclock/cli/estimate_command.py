"""`ironclock estimate`: a scenario estimated from the log of a real run."""

from __future__ import annotations

import click

from .log_options import LogOptions, log_options
from .output import told_written, write


@click.command(short_help="Estimate a scenario from the log of a real run.")
@click.argument("log", type=click.Path())
@click.option("--out", type=click.Path(dir_okay=False), help="Write the scenario into this file. Default: print it.")
@log_options
def estimate(
    log: str, out: str | None, reading: LogOptions,
) -> None:  # fmt: skip
    """Estimate a scenario from the LOG of a real run: durations, failure shares, rates by hour, retries, workers.

    The result is a scenario file for `ironclock forecast` and `ironclock run`. Read it, and change what you know
    better.
    """
    from ..scenario.estimation import estimate as estimated

    text = estimated(reading.history(log), f"Estimated from {'standard input' if log == '-' else log}")
    write(out or "-", text)
    told_written(out or "-", f"; look at its day with: ironclock forecast {out}")
