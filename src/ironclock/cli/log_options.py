"""The options that say how to read a log."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import wraps
from typing import TYPE_CHECKING, Any

import click

import ironclock as ic

from ..foundation.example_files import example
from ..history.saved_files import is_saved
from . import given_files
from .output import write
from .progress_line import Meter, Waiting

if TYPE_CHECKING:
    from ..laws.log_check import CheckedLog

_SHOWN = 10


@dataclass(frozen=True)
class LogOptions:
    """How to read logs, as the options say it."""

    columns: Sequence[str] = ()
    outcomes: Sequence[str] = ()
    mapping: str | None = None
    save_columns: str | None = None
    delimiter: str | None = None
    encoding: str | None = None
    query: str | None = None
    keep_doubles: bool = False
    bad_rows: float = 10.0
    zone: str | None = None

    def history(self, paths: str | Sequence[str], mapping: str | None = None) -> ic.History:
        """Return the history in saved histories or logs. Says which columns were guessed, and which rows are bad.

        Parameters: `mapping` is a TOML file with ``[columns]``, ``[outcomes]`` and ``zone``, if no option names one.
        Raises `IronClockError`.
        """
        return self.checked(paths, (), mapping, whole=True).history

    def checked(
        self,
        paths: str | Sequence[str],
        laws: Sequence[ic.laws.Law],
        mapping: str | None = None,
        *,
        whole: bool = False,
    ) -> CheckedLog:
        """Return what laws say about saved histories or logs. Says which columns were guessed, and which rows are bad.

        Parameters: `mapping` is as in `history`; `whole`: the history is needed as well, and not only what laws say.
        Raises `IronClockError`.
        """
        from ..laws.log_check import check_history, check_logs

        given = [paths] if isinstance(paths, str) else list(paths)
        if self.query is None:
            given = [example(given_files.of_standard_input(path)) for path in given]
        what = given_files.with_names(f"reading {' and '.join(given)}") if self.query is None else "asking the database"
        torn: list[str] = []
        guessed: dict[str, str] = {}
        if self.query is None and len(given) == 1 and is_saved(given[0]):
            with Waiting(what):
                found = check_history(lambda: ic.History.load(given[0], torn), laws)
        else:
            how = self._how(mapping, torn, guessed)
            with Waiting(what) as waiting, Meter(what) as meter:

                def tell(share: float) -> None:
                    waiting.end()
                    meter.show(share)

                found = check_logs(given, laws, how, whole=whole, tell=tell)
            if self.save_columns is not None:
                write(self.save_columns, _as_toml(how["zone"], {**how["columns"], **guessed}, how["outcomes"]))
                click.echo(f"wrote {self.save_columns}", err=True)
        if guessed:
            words = ", ".join(f"{field} = {column}" for field, column in guessed.items())
            click.echo(f"Columns by their names: {words}. --column says it otherwise.", err=True)
        for words in torn[:_SHOWN]:
            click.echo(f"Warning: {given_files.with_names(words)}", err=True)
        if len(torn) > _SHOWN:
            click.echo(f"Warning: ... and {len(torn) - _SHOWN:,} more rows like these", err=True)
        return found

    def _how(self, mapping: str | None, torn: list[str], guessed: dict[str, str]) -> dict[str, Any]:
        """Return the keywords of `log_history`."""
        from ..scenario.law_tables import toml_tables

        place = self.mapping or mapping
        kept = {} if place is None else toml_tables(place)
        columns = {**_texts(kept, "columns", place), **given_files.pairs(self.columns, "--column")}
        outcomes = {**_texts(kept, "outcomes", place), **given_files.pairs(self.outcomes, "--outcome")}
        zone = self.zone or str(kept.get("zone", "UTC"))
        return {
            "columns": columns, "outcomes": outcomes, "zone": zone, "torn": torn, "keeps_doubles": self.keep_doubles,
            "bad_rows": self.bad_rows / 100, "delimiter": self.delimiter or kept.get("delimiter"), "query": self.query,
            "guessed": guessed, "encoding": self.encoding or kept.get("encoding"),
        }  # fmt: skip


def log_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that say how to read a log. The command gets them as `reading`, a `LogOptions`."""

    @wraps(command)
    def with_reading(*args: Any, **given: Any) -> Any:
        mine = {name: given.pop(name) for name in LogOptions.__dataclass_fields__}
        return command(*args, reading=LogOptions(**mine), **given)

    options = (
        click.option("--column", "columns", multiple=True, metavar="FIELD=COLUMN", help="Which column holds what: "
                     "job, name, queue, key, args, enqueued, due, attempt, started, ended, runtime, outcome, error, "
                     "worker, effect; event and time if each row is one event. Default: guessed from the names."),
        click.option("--outcome", "outcomes", multiple=True, metavar="WORD=OUTCOME", help="What a word of the log's "
                     "outcome means: done, failed, timed-out, crashed or dead."),
        click.option("--columns", "mapping", type=click.Path(), metavar="FILE", help="A TOML file that says this: "
                     "[columns] and [outcomes] as above, zone, delimiter and encoding."),
        click.option("--save-columns", type=click.Path(dir_okay=False), metavar="FILE", help="Write such a file, with "
                     "the columns that were guessed."),
        click.option("--delimiter", metavar="CHARACTER", help="What separates the columns of CSV. Default: as in the "
                     "head, a comma, semicolon, tab or bar."),
        click.option("--encoding", metavar="NAME", help="The encoding of the log, such as latin-1. Default: UTF-8, or "
                     "UTF-16 if it begins as that does."),
        click.option("--query", metavar="SELECT", help="The log is what this query returns, and LOG is the URL of the "
                     "database."),
        click.option("--keep-doubles", is_flag=True, help="Let equal rows count as several attempts. Default: as one."),
        click.option("--bad-rows", type=click.FloatRange(0, 100), metavar="PERCENT", default=10.0, show_default=True,
                     help="Refuse a log with a larger share of rows that cannot be read, have no end, end before they "
                     "start, or are there twice."),
        click.option("--zone", help="The zone of times without an offset. Default: UTC."),
    )  # fmt: skip
    made: Callable[..., Any] = with_reading
    for option in options:
        made = option(made)
    return made


def _texts(tables: dict[str, Any], name: str, path: str | None) -> dict[str, str]:
    table = tables.get(name, {})
    if not isinstance(table, dict) or not all(isinstance(value, str) for value in table.values()):
        raise ic.InputError(f"{path}: [{name}] has a value that is not text; it maps text to text")
    return table


def _as_toml(zone: str, columns: dict[str, str], outcomes: dict[str, str]) -> str:
    lines = [f"zone = {json.dumps(zone)}", "", "[columns]"]
    lines += [f"{field} = {json.dumps(column, ensure_ascii=False)}" for field, column in columns.items()]
    if outcomes:
        lines += ["", "[outcomes]"]
        lines += [f"{json.dumps(word, ensure_ascii=False)} = {json.dumps(what)}" for word, what in outcomes.items()]
    text = "\n".join(lines) + "\n"
    tomllib.loads(text)
    return text
