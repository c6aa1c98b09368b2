"""`ironclock check`: laws on the log of a real run."""

from __future__ import annotations

import json
import sys
from typing import Any

import click

import ironclock as ic

from . import given_files
from .log_options import log_options
from .output import screen, write


@click.command(short_help="Check laws on the log of a real run.")
@click.argument("log", type=click.Path())
@click.option("--laws", "laws", required=True, help="The laws: FILE.toml with [[laws]], FILE.py or "
              "FILE.py:NAME, or a module.")  # fmt: skip
@click.option("--html", type=click.Path(dir_okay=False), help="Write the report, with the laws, as one HTML page.")
@click.option("--junit", type=click.Path(dir_okay=False), help="Write the laws as JUnit XML, for CI.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON for a script.")
@log_options
def check(
    log: str, laws: str, html: str | None, junit: str | None, as_json: bool, columns: tuple[str, ...],
    outcomes: tuple[str, ...], mapping: str | None, zone: str | None, keep_doubles: bool, bad_rows: float,
) -> None:  # fmt: skip
    """Check laws on the LOG of a real run: a CSV or JSON Lines file with one attempt in each row, or a saved history.

    It needs at least the columns job, started and outcome. --column, or [columns] in the file of the laws, says which
    other names they have. Exit code 1 if a law is broken.
    """
    from ..laws.law import World, broken_by, told

    if mapping is None and laws.endswith(".toml"):
        mapping = laws
    history = given_files.read(log, columns, outcomes, mapping, zone, keep_doubles, bad_rows)
    world = World(history)
    found = [(name, broken_by([law], world)) for name, law in given_files.laws_from(laws)]
    if html is not None:
        from ..reports.html_page import page

        write(html, page(history, log, found))
    if junit is not None:
        from ..reports.open_formats import junit as as_junit

        cases = [(name, log, "\n".join(told(b, history).strip() for b in breaches)) for name, breaches in found]
        write(junit, as_junit(log, cases))
    if as_json:
        rows = [{"law": name, "holds": not b, "breaches": [one.words for one in b]} for name, b in found]
        click.echo(json.dumps(rows, indent=1, ensure_ascii=False))
    else:
        _show(history, found, log)
    sys.exit(1 if any(breaches for _, breaches in found) else 0)


def _show(history: ic.History, found: list[tuple[str, list[Any]]], log: str) -> None:
    from rich.text import Text

    from ..laws.law import told

    console = screen()
    jobs = sum(entry.what == "enqueued" for entry in history)
    attempts = sum(entry.what == "started" for entry in history)
    console.print(Text(f"{log}: {jobs:,} jobs, {attempts:,} attempts\n", style="dim"), soft_wrap=True)
    for name, breaches in found:
        if not breaches:
            console.print(Text(f"✓ {name}", style="green"), soft_wrap=True)
            continue
        console.print(Text(f"✗ {name} is broken", style="bold red"), soft_wrap=True)
        for breach in breaches[:5]:
            console.print(Text(told(breach, history)), soft_wrap=True)
        if len(breaches) > 5:
            console.print(Text(f"  ... and {len(breaches) - 5:,} more breaches", style="dim"))
