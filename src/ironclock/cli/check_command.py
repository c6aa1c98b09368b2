"""`ironclock check`: laws on the log of a real run."""

from __future__ import annotations

import json
import sys
from typing import TYPE_CHECKING

import click

import ironclock as ic

from . import given_files
from .log_options import LogOptions, log_options
from .output import print_text, say, screen, set_aside, write

if TYPE_CHECKING:
    from ..laws.log_check import CheckedLog


@click.command(short_help="Check laws on the log of a real run.")
@click.argument("logs", type=click.Path(), nargs=-1, metavar="LOG...")
@click.option("--laws", "laws", help="The laws: FILE.toml with [[laws]], FILE.py or "
              "FILE.py:NAME, or a module.")  # fmt: skip
@click.option("--html", type=click.Path(dir_okay=False), help="Write the report, with the laws, as one HTML page.")
@click.option("--junit", type=click.Path(dir_okay=False), help="Write the laws as JUnit XML, for CI.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON for a script.")
@click.option("--strict", is_flag=True, help="A law that had nothing to judge is broken.")
@click.option("--schema", is_flag=True, help="Print the JSON Schema of files of laws, and do not check anything.")
@log_options
def check(
    logs: tuple[str, ...], laws: str | None, html: str | None, junit: str | None, as_json: bool,
    strict: bool, schema: bool, reading: LogOptions,
) -> None:  # fmt: skip
    """Check laws on the LOG of a real run, or on several together: CSV, JSON Lines, JSON or OTLP/JSON files, also
    compressed, with one attempt or one event in each row; a saved history; or, with --query, a database.

    Which column holds what is guessed from the names, and said. --column, or [columns] in the file of the laws, says it
    otherwise. Exit code 0: all laws hold, 1: a law is broken, 2: the log or the laws cannot be read.
    """
    from ..laws.law import told

    if schema:
        from ..scenario.law_tables import law_file_schema

        click.echo(json.dumps(law_file_schema(), indent=1, ensure_ascii=False))
        return
    set_aside(html, junit)
    if not logs or laws is None:
        raise click.UsageError("Give at least one LOG, and --laws FILE.")
    log = logs[0] if len(logs) == 1 else f"{len(logs)} logs"
    stated = given_files.laws_from(laws)
    mapping = laws if laws.endswith(".toml") else None
    checked = reading.checked(logs, [law for _, law in stated], mapping, whole=html is not None)
    history = checked.history
    found = [(name, breaches) for (name, _), breaches in zip(stated, checked.found, strict=True)]
    if html is not None:
        from ..reports.html_page import page

        write(html, page(history, log, found))
    if junit is not None:
        from ..reports.open_formats import Case
        from ..reports.open_formats import junit as as_junit

        cases = [
            Case(name, laws, "\n".join(told(b, history).strip() for b in breaches), seconds)
            for (name, breaches), seconds in zip(found, checked.seconds, strict=True)
        ]
        write(junit, as_junit(log, cases))
    if as_json:
        rows = [
            {"law": name, "holds": not b, "judged": judged, "breaches": [one.words for one in b]}
            for (name, b), judged in zip(found, checked.judged, strict=True)
        ]
        say(json.dumps(rows, indent=1, ensure_ascii=False))
    else:
        _show(checked, found, log)
    is_broken = any(breaches for _, breaches in found) or (strict and not all(checked.judged))
    sys.exit(1 if is_broken else 0)


def _show(checked: CheckedLog, found: list[tuple[str, list[ic.Breach]]], log: str) -> None:
    from rich.text import Text

    from ..laws.law import told

    console = screen()
    in_parts = "; too large for the memory, so checked part by part" if checked.in_parts else ""
    words = f"{log}: {checked.jobs:,} jobs, {checked.attempts:,} attempts{in_parts}\n"
    print_text(console, Text(words, style="dim"))
    for (name, breaches), judged in zip(found, checked.judged, strict=True):
        if not judged:
            print_text(console, Text(f"- {name} had nothing to judge", style="yellow"))
            continue
        if not breaches:
            print_text(console, Text(f"✓ {name}", style="green"))
            continue
        print_text(console, Text(f"✗ {name} is broken", style="bold red"))
        for breach in breaches[:5]:
            print_text(console, Text(told(breach, checked.history)))
        if len(breaches) > 5:
            console.print(Text(f"  ... and {len(breaches) - 5:,} more breaches", style="dim"))
