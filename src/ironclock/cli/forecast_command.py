"""`ironclock forecast`: what a day of a scenario is like, before it is deployed."""

from __future__ import annotations

import json
import sys
from typing import TYPE_CHECKING, Any

import click

import ironclock as ic

from . import given_files
from .output import needing, output_file, print_text, say, screen, set_aside, told_written
from .progress_line import Meter

if TYPE_CHECKING:
    from ..forecasting.advice import Advice, Kept
    from ..forecasting.forecast import Forecast
    from ..forecasting.storms import StormLoad
    from ..scenario.scenario import Scenario


_HEADS = {"mean": "mean", "q05": "5 %", "q50": "median", "q95": "95 %"}
_WIDE = 64


@click.command(short_help="Work out a day's backlog, retries and dead letters.")
@click.argument("file", type=click.Path())
@click.option("--against", type=click.Path(), help="Another scenario file, drawn into the same picture.")
@click.option("--load", type=click.FloatRange(min=0, min_open=True), help="Multiply every rate and count by this.")
@click.option("--span", help="How long, such as 24h. Default: as the file says, or a day.")
@click.option("--bin", "step", help="The step in which backlogs are noted, such as 1s. Default: a second.")
@click.option("--replications", type=click.IntRange(2), help="How many days to draw. Default: 200.")
@click.option("--seed", default=0, show_default=True, help="Everything that is drawn by lot follows from it.")
@click.option(
    "--advise",
    "search",
    is_flag=True,
    help="Try the policies, workers and weights of [forecast.search], and compare with the limits.",
)
@click.option(
    "--storm-load",
    "storm",
    is_flag=True,
    help="Find the load from which on an outage leaves a retry storm that lasts.",
)
@click.option(
    "--png", type=click.Path(dir_okay=False), help="Draw backlog, age, retries and dead letters into this file."
)
@click.option("--json", "as_json", is_flag=True, help="Print JSON for a script.")
def forecast(
    file: str, against: str | None, load: float | None, span: str | None, step: str | None, replications: int | None,
    seed: int, search: bool, storm: bool, png: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Work out a day of a scenario FILE: backlog, age, retries, dead letters, time to recover.

    Rates, durations, failures, retries, workers and outages are those of the file. Many days are drawn. The table shows
    their mean, and what 5, 50 and 95 of 100 days do not exceed. The cost does not depend on the number of jobs.

    Exit code 1 if a limit of [forecast.limits] is broken in more than 5 of 100 days.
    """
    set_aside(png)
    with needing("forecast"):
        from ..forecasting.advice import advise, kept, limits_of

        scenario = given_files.scenario_of(file)
        if search:
            with Meter("trying policies") as meter:
                advice = advise(
                    scenario, span=span, bin=step, replications=replications or 40, load=load, seed=seed,
                    progress=meter.show,
                )  # fmt: skip
            _advice(advice, file, as_json)
            sys.exit(0 if advice.best else 1)
        if storm:
            from ..forecasting.storms import storm_load

            with Meter("trying loads") as meter:
                border = storm_load(
                    scenario, span=span, replications=replications or 40, load=load, seed=seed, progress=meter.show
                )
            _storm_load(border, replications or 40, as_json)
            sys.exit(0)
        more: list[tuple[Scenario, Forecast]] = []
        with Meter("drawing days") as meter:
            files = [scenario, *([given_files.scenario_of(against)] if against else [])]
            for number, one in enumerate(files):
                tell = lambda share, n=number: meter.show((n + share) / len(files))  # noqa: E731
                found = ic.forecast(
                    one, span=span, bin=step, replications=replications, load=load, seed=seed, progress=tell
                )
                more.append((one, found))
    limits = [kept(found, limits_of(one)) for one, found in more]
    if png is not None:
        from ..forecasting.forecast_chart import band_figure

        with needing("plot"), output_file(png, ".png") as place:
            band_figure([(one.title, found) for one, found in more], place)
    if as_json:
        say(json.dumps(_as_json(more, limits), indent=1, allow_nan=False, ensure_ascii=False))
    else:
        _show(more, limits)
        if png is not None:
            told_written(png)
    sys.exit(1 if any(one.ratio > 1 for one in limits[0]) else 0)


def _finite(value: float) -> float | None:
    return value if value != float("inf") else None


def _as_json(more: list[tuple[Scenario, Forecast]], limits: list[tuple[Kept, ...]]) -> Any:
    made = []
    for (scenario, found), kept in zip(more, limits, strict=True):
        rows = [
            {key: _finite(value) if isinstance(value, float) else value for key, value in row.items()}
            for row in found.rows()
        ]
        made.append(
            {
                "file": scenario.name, "title": scenario.title, "span_s": found.span, "bin_s": found.step,
                "replications": found.replications, "figures": rows, "storm": found.storm,
                "left_out": list(found.workload.left_out), "warnings": list(found.warnings),
                "limits": [
                    {"limit": k.limit, "allowed": k.allowed, "found": _finite(k.found), "kept": k.ratio <= 1}
                    for k in kept
                ],
            }
        )  # fmt: skip
    return made if len(made) > 1 else made[0]


def _show(more: list[tuple[Scenario, Forecast]], limits: list[tuple[Kept, ...]]) -> None:
    from rich.table import Table
    from rich.text import Text

    from ..forecasting.forecast_chart import chart
    from ..reports.readable_numbers import seconds

    console = screen()
    width = console.width
    for (scenario, found), kept in zip(more, limits, strict=True):
        print_text(console, Text(scenario.title, style="bold"))
        console.print(
            Text(
                f"{seconds(found.span)} in bins of {seconds(found.step)}, {found.replications} replications; "
                f"{'; '.join(_streams(found))}\n",
                style="dim",
            )
        )
        table = Table(box=None, pad_edge=False, header_style="bold")
        # A narrow screen has room for two numbers.
        shown = ("mean", "q05", "q50", "q95") if width >= _WIDE else ("mean", "q95")
        table.add_column("", no_wrap=width >= _WIDE)
        for key in shown:
            table.add_column(_HEADS[key], justify="right", no_wrap=width < _WIDE)
        for row in found.rows():
            if row["figure"] in ("dropped", "storm") and not row["mean"]:
                continue  # most workloads drop nothing, and storms are rare
            cells = [_cell(row["figure"], row[key]) for key in shown]
            table.add_row(row["what"], *cells)
        console.print(table)
        console.print()
        console.print(Text("backlog: the median, and up to the 95 % quantile (░)", style="dim"))
        for line in chart(found, "backlog", width):
            console.print(line)
        if found.storm:
            print_text(console, Text(_storm_words(found.storm), style="bold red"))
        for one in kept:
            _limit(console, one)
        for words in found.warnings:
            print_text(console, Text(f"warning: {words}", style="yellow"))
        for words in found.workload.left_out:
            print_text(console, Text(f"left out: {words}", style="yellow"))
        console.print()


def _storm_words(share: float) -> str:
    return (
        f"✗ a storm that lasts follows the outage in {share:.0%} of the days: the backlog does not "
        "fall any more, although nothing is down. A retry budget or a breaker can end it; see --storm-load"
    )


def _storm_load(border: StormLoad, replications: int, as_json: bool) -> None:
    if as_json:
        found = {"calm": border.calm, "storm": border.storm, "overload": border.overload}
        click.echo(json.dumps({**found, "replications": replications}, indent=1))
        return
    if border.storm is None:
        up_to = f", tried up to {border.calm:.3g} times the load" if border.calm is not None else ""
        click.echo(f"no outage leaves a storm that lasts{up_to}")
    elif border.calm is None:
        click.echo(f"an outage leaves a storm that lasts at each load that was tried, from {border.storm:.3g} times on")
    else:
        click.echo(
            f"an outage leaves a storm that lasts from {border.storm:.3g} times the load on "
            f"({border.calm:.3g} times the load does not; {replications} days of each)"
        )
    if border.overload is not None:
        click.echo(f"the workers cannot serve {border.overload:.3g} times the load, also if nothing is down")


def _streams(found: Forecast) -> list[str]:
    return [f"{stream.name}: {stream.takes.describe()}, {stream.retry.describe()}" for stream in found.workload.streams]


def _cell(figure: str, value: float) -> str:
    from ..forecasting.forecast_figures import DURATIONS, SHARES
    from ..reports.readable_numbers import number, seconds

    if figure in DURATIONS:
        return seconds(value)
    return f"{value:.2%}" if figure in SHARES else number(value)


def _limit(console: Any, one: Kept) -> None:
    from rich.text import Text

    from ..forecasting.advice import LIMITS

    figure = LIMITS[one.limit]
    words = f"{one.limit}: {_cell(figure, one.found)} in 95 of 100, at most {_cell(figure, one.allowed)} allowed"
    good = one.ratio <= 1
    print_text(console, Text(f"{'✓' if good else '✗'} {words}", style="green" if good else "bold red"))


def _advice(advice: Advice, file: str, as_json: bool) -> None:
    from rich.table import Table
    from rich.text import Text

    from ..forecasting.advice import LIMITS

    if as_json:
        rows = [
            {
                "choice": dict(one.choice), "words": one.words, "holds": one.holds, "cost": one.cost,
                "binding": one.binding.limit,
                "limits": {k.limit: _finite(k.found) for k in one.kept},
            }
            for one in advice.tried
        ]  # fmt: skip
        click.echo(json.dumps({"best": rows[0] if advice.best else None, "tried": rows}, indent=1, ensure_ascii=False))
        return
    console = screen()
    best = advice.best
    first = advice.tried[0]
    binding = first.binding
    figure = LIMITS[binding.limit]
    what = f"{_cell(figure, binding.found)} of at most {_cell(figure, binding.allowed)}"
    if best is not None:
        print_text(console, Text(f"✓ {best.words}", style="bold green"))
        print_text(console, Text(f"  keeps every limit; nearest to its limit is {binding.limit}: {what}\n"))
    else:
        console.print(Text("✗ none of these policies keeps every limit", style="bold red"))
        print_text(
            console, Text(f"  nearest: {first.words}; the limit that is broken most is {binding.limit}: {what}\n")
        )
    table = Table(box=None, pad_edge=False, header_style="bold")
    for name in (*(k.limit for k in first.kept), "binds", "cost", "policy"):
        table.add_column(name, justify="right" if name not in ("policy", "binds") else "left", overflow="fold")
    for one in advice.tried:
        cells = [Text(_cell(LIMITS[k.limit], k.found), style="" if k.ratio <= 1 else "red") for k in one.kept]
        table.add_row(
            *cells, one.binding.limit, f"{one.cost:,.10g}", Text(one.words, style="green" if one.holds else "")
        )
    console.print(table)
