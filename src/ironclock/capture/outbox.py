"""The SQL outbox: jobs that the application writes into a table of its own database."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import TYPE_CHECKING, Any

from ..core.clockwork import Watch
from ..core.durations import NS
from ..core.errors import InputError, PayloadError, UnknownJob, nearest
from ..core.jobs import Job
from ..core.timeline import instant_ns
from .sql import Database

if TYPE_CHECKING:
    from ..core.engine import Engine
    from .intake import Intake


@dataclass(frozen=True)
class Columns:
    """Which column of a job table holds what, by the column's name.

    `id`, `name` (the job's) and `args` are needed; `args` and `kwargs` hold JSON. `due` holds seconds since the
    epoch, a datetime (without a zone: UTC) or ISO 8601 text; none: due at once. `state` holds one of the values
    `waiting` (only such rows are read), `done` and `dead` (written when the job has ended, where they are given);
    `tries` is written with the number of attempts.
    """

    id: str = "id"
    name: str = "name"
    args: str = "args"
    kwargs: str | None = None
    queue: str | None = None
    due: str | None = None
    priority: str | None = None
    state: str | None = None
    tries: str | None = None
    waiting: Any = "waiting"
    done: Any = None
    dead: Any = None

    def __post_init__(self) -> None:
        for one in fields(self):
            value = getattr(self, one.name)
            if one.name in ("waiting", "done", "dead") or (value is None and one.default is None):
                continue
            if not isinstance(value, str) or not value.replace("_", "a").isalnum():
                raise InputError(f"column {one.name} is {value!r}; give the column's name")
        if self.state is None and (self.done is not None or self.dead is not None):
            raise InputError("done and dead are values of the state column; say which that is")


class Outbox:
    """A job table as a source of jobs. `jobs` maps a row's id to its job. Made by `Rig.outbox`.

    The table is read before anything runs and after every event; what is in an open transaction of the same
    connection is not there yet. A row that disappears, or whose state changes, before its job has started takes the
    job with it.

    Parameters: `connection` a DB-API connection, one of SQLAlchemy's, or a function that returns either; `table` its
    name; `columns` which column holds what; `handlers` a mapping (or function) from the name in a row to a callable
    (none: names of job types); `where` one more condition in SQL.
    """

    def __init__(
        self, connection: Any, table: str, columns: Columns, handlers: Any, where: str | None, engine: Engine,
        intake: Intake,
    ) -> None:  # fmt: skip
        if not isinstance(columns, Columns):
            raise InputError(f"columns is {columns!r}; give an ic.Columns(...)")
        if not isinstance(table, str) or not table.replace("_", "a").replace(".", "a").isalnum():
            raise InputError(f"table is {table!r}; give a table's name")
        self._database = Database(connection)
        self._table = table
        self._columns = columns
        self._handlers = handlers
        self._engine = engine
        self._intake = intake
        self.jobs: dict[Any, Job] = {}
        self._reading = False
        wanted = [columns.id, columns.name, columns.args]
        self._optional = {
            what: getattr(columns, what)
            for what in ("kwargs", "queue", "due", "priority")
            if getattr(columns, what) is not None
        }
        conditions = [f"{columns.state} = ?"] if columns.state is not None else []
        conditions += [f"({where})"] if where else []
        self._select = (
            f"select {', '.join([*wanted, *self._optional.values()])} from {table}"
            f"{' where ' * bool(conditions)}{' and '.join(conditions)} order by {columns.id}"
        )
        self._values = [columns.waiting] if columns.state is not None else []
        engine.watches.append(Watch(None, self._look))

    def read(self) -> list[Job]:
        """Read the table; return the jobs that are new. The rig does this by itself."""
        if self._database.in_transaction():
            return []
        rows = self._database.rows(self._select, self._values)
        self._database.rest()
        there = {row[0] for row in rows}
        for number, job in self.jobs.items():
            if number not in there and job.tries == 0 and job.state in ("held", "ready"):
                self._engine.record("note", job, 0, f"its row {number!r} of {self._table} is gone")
                self._engine.withdraw(job)
        return [self._take(row) for row in rows if row[0] not in self.jobs]

    def _look(self) -> bool:
        if not self._reading:
            self._reading = True
            try:
                self.read()
            finally:
                self._reading = False
        return False

    def _take(self, row: tuple[Any, ...]) -> Job:
        number, name, args = row[:3]
        more = dict(zip(self._optional, row[3:], strict=True))
        spot = f"row {number!r} of {self._table}"
        type = self._intake.type_of(self._handler(name, spot))
        call = type.call(*self._json(args, list, spot), **self._json(more.get("kwargs"), dict, spot))
        due = self._due(more.get("due"), spot)
        engine = self._engine
        priority = more.get("priority")
        job = engine.enqueue(type, call.args, call.kwargs, max(due, engine.now), more.get("queue"), priority)
        job.copies = True
        job.closed = lambda closed: self._closed(number, closed)
        self.jobs[number] = job
        return job

    def _handler(self, name: str, spot: str) -> Any:
        handlers = self._handlers
        if handlers is None:
            known = self._engine.types
            if name not in known:
                raise UnknownJob(f"{spot} names the job {name!r}, which is no job type; {nearest(str(name), known)}")
            return known[name]
        if isinstance(handlers, Mapping):
            if name not in handlers:
                raise UnknownJob(f"{spot} names the job {name!r}, without a handler; {nearest(str(name), handlers)}")
            return handlers[name]
        return handlers(name)

    @staticmethod
    def _json(value: Any, kind: type, spot: str) -> Any:
        if value is None:
            return kind()
        if isinstance(value, (str, bytes)):
            try:
                value = json.loads(value)
            except ValueError as error:
                raise PayloadError(f"{spot} holds arguments that are no JSON: {error}") from None
        if not isinstance(value, kind):
            raise PayloadError(
                f"{spot} holds {value!r} for arguments; it has to be a JSON {'array' if kind is list else 'object'}"
            )
        return value

    def _due(self, value: Any, spot: str) -> int:
        if value is None:
            return self._engine.now
        if isinstance(value, str):
            try:
                value = dt.datetime.fromisoformat(value)
            except ValueError:
                raise InputError(f"{spot} is due at {value!r}, which is not ISO 8601") from None
        if isinstance(value, dt.datetime):
            return instant_ns(value if value.tzinfo is not None else value.replace(tzinfo=dt.timezone.utc))
        try:
            whole = int(value)
            return whole * NS + round((float(value) - whole) * 1e6) * 1000  # a float has microseconds, no more
        except (TypeError, ValueError):
            raise InputError(f"{spot} is due at {value!r}; that is no instant") from None

    def _closed(self, number: Any, job: Job) -> None:
        columns = self._columns
        state = columns.done if job.state == "done" else columns.dead if job.state in ("dead", "dropped") else None
        changes: list[tuple[str, Any]] = []
        if columns.state is not None and state is not None:
            changes.append((columns.state, state))
        if columns.tries is not None:
            changes.append((columns.tries, job.tries))
        if changes:
            setting = ", ".join(f"{column} = ?" for column, _ in changes)
            sql = f"update {self._table} set {setting} where {columns.id} = ?"
            self._database.change(sql, [*(value for _, value in changes), number])
            self._database.commit()

    def __repr__(self) -> str:
        return f"<outbox {self._table}: {len(self.jobs)} jobs>"
