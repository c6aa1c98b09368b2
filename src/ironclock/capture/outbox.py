"""The SQL outbox: jobs that the application writes into a table of its database."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import TYPE_CHECKING, Any

from ..errors import InputError, InstantError, PayloadError, UnknownJob, nearest
from ..foundation.durations import NS
from ..foundation.instants import instant_ns, within_time
from ..simulation.event_loop import Waiter
from ..simulation.jobs import OPEN, Job, LiveJob
from .sql import Database

if TYPE_CHECKING:
    from ..simulation.simulation import Simulation
    from .job_registry import JobRegistry


@dataclass(frozen=True)
class Columns:
    """The names of the columns of a job table.

    - `id`, `name`, `args`: the row's id, the job's name and its arguments as a JSON array. Every table has them.
    - `kwargs`: the keyword arguments as a JSON object. Default None: no such column.
    - `queue`, `priority`: the queue's name and the priority. Default None.
    - `due`: seconds since the epoch, a datetime (without a zone: UTC) or ISO 8601 text. Default None: due at once.
    - `state`: the state of the row. Default None: every row is read.
    - `tries`: written with the number of attempts when the job is closed. Default None.
    - `waiting`: only rows with this state are read. Default ``"waiting"``.
    - `done`, `dead`: the states written when the job is closed. Default None: not written.

    Raises `InputError`.

    Example::

        columns = ic.Columns(args="payload", due="run_at", state="state", done="sent")
        rig.outbox(connection, table="outbox", columns=columns, handlers={"manifest": submit_manifest})
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
                raise InputError(f"the column {one.name} is {value!r}; give the name of a column")
        if self.state is None and (self.done is not None or self.dead is not None):
            raise InputError("done or dead is given, and no state column to write it into; give state=...")


class Outbox:
    """A job table as a source of jobs. `Rig.outbox` gives it.

    The table is read before anything runs, and after every event. Rows of an open transaction of the same connection
    are not read. If a row disappears, or its state changes, before its job has started, the job is withdrawn. If it
    changes otherwise, the job is withdrawn, and another one takes its place. A row that is set back to waiting after
    its job has ended becomes a new job, and so does another row with the same id.

    Parameters:

    - `connection`: a DB-API connection, a connection of SQLAlchemy, or a function that returns one of them.
    - `table`: the name of the table.
    - `columns`: `Columns`.
    - `handlers`: a mapping or a function from the name in a row to a callable. Default None: names of job types.
    - `where`: one more condition in SQL. Default None.

    Raises `InputError`. A row that cannot be read raises `PayloadError`, `UnknownJob` or `InputError`.
    """

    def __init__(
        self, connection: Any, table: str, columns: Columns, handlers: Any, where: str | None, simulation: Simulation,
        registry: JobRegistry,
    ) -> None:  # fmt: skip
        if not isinstance(columns, Columns):
            raise InputError(f"columns is {columns!r}; give an ic.Columns(...)")
        if not isinstance(table, str) or not table.replace("_", "a").replace(".", "a").isalnum():
            raise InputError(f"table is {table!r}; give a table's name")
        self._database = Database(connection)
        self._table = table
        self._columns = columns
        self._handlers = handlers
        self._loop = simulation.loop
        self._history = simulation.history
        self._broker = simulation.broker
        self._registry = registry
        self._live_jobs: dict[Any, LiveJob] = {}
        self._rows: dict[Any, tuple[Any, ...]] = {}  # by id, as read the last time
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
        self._loop.waiters.append(Waiter(None, self._look))

    @property
    def jobs(self) -> dict[Any, Job[Any]]:
        """The jobs by the id of their row."""
        return {number: job.reader for number, job in self._live_jobs.items()}

    def read(self) -> list[Job[Any]]:
        """Read the table; return the new jobs. The rig does this before anything runs, and after every event."""
        if self._database.in_transaction():
            return []
        rows = self._database.rows(self._select, self._values)
        self._database.end_query()
        there, before = {row[0]: row for row in rows}, self._rows
        for number, job in self._live_jobs.items():
            row = there.get(number)
            unchanged = row is not None and row == before.get(number, row)
            if unchanged or job.attempts_made or job.state not in ("held", "ready"):
                continue
            how = "is gone" if row is None else "has changed"
            self._history.record("note", job, 0, f"its row {number!r} of {self._table} {how}")
            self._broker.withdraw(job)
        self._rows = there
        return [self._take(row).reader for row in rows if self._is_new(row, before)]

    def _is_new(self, row: tuple[Any, ...], before: dict[Any, tuple[Any, ...]]) -> bool:
        """Return True if a row is to become a job: it is new, it has changed, or it waits again."""
        job = self._live_jobs.get(row[0])
        if job is None:
            return True
        if job.state in OPEN:
            return False
        # If the rig has written the end of the job into its row, and the row waits now, somebody has set it back. If
        # not, a row that was away is another one with the same id.
        return row != before.get(row[0]) or self._end_of(job) is not None

    def _end_of(self, job: LiveJob) -> Any:
        """Return what is written into the state column of the row of a closed job. None: nothing."""
        columns = self._columns
        if columns.state is None:
            return None
        return columns.done if job.state == "done" else columns.dead if job.state in ("dead", "dropped") else None

    def _look(self) -> bool:
        if not self._reading:
            self._reading = True
            try:
                self.read()
            finally:
                self._reading = False
        return False

    def _take(self, row: tuple[Any, ...]) -> LiveJob:
        number, name, args = row[:3]
        more = dict(zip(self._optional, row[3:], strict=True))
        spot = f"row {number!r} of {self._table}"
        type = self._registry.type_of(self._handler(name, spot))
        call = type.call(*self._json(args, list, spot), **self._json(more.get("kwargs"), dict, spot))
        due = self._due(more.get("due"), spot)
        due = max(due, self._loop.now)
        job = self._broker.enqueue(type, call.args, call.kwargs, due, more.get("queue"), more.get("priority"))
        job.copies_arguments = True
        job.when_closed(lambda closed: self._closed(number, closed))
        self._live_jobs[number] = job
        return job

    def _handler(self, name: str, spot: str) -> Any:
        handlers = self._handlers
        if handlers is None:
            known = self._broker.types
            if name not in known:
                raise UnknownJob(f"{spot} names the job {name!r}, which is not a job type; {nearest(str(name), known)}")
            return known[name]
        if isinstance(handlers, Mapping):
            if name not in handlers:
                raise UnknownJob(f"{spot} names the job {name!r}, which has no handler; {nearest(str(name), handlers)}")
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
                raise PayloadError(f"the arguments in {spot} are not JSON: {error}") from None
        if not isinstance(value, kind):
            raise PayloadError(
                f"the arguments in {spot} are {value!r}; they must be a JSON {'array' if kind is list else 'object'}"
            )
        return value

    def _due(self, value: Any, spot: str) -> int:
        if value is None:
            return self._loop.now
        if isinstance(value, str):
            try:
                value = dt.datetime.fromisoformat(value)
            except ValueError:
                raise InputError(
                    f"{spot} is due at {value!r}; it must be ISO 8601, such as '2031-03-29T21:00Z'"
                ) from None
        if isinstance(value, dt.datetime):
            return instant_ns(value if value.tzinfo is not None else value.replace(tzinfo=dt.timezone.utc))
        try:
            whole = int(value)
            # A float holds microseconds, and nothing finer.
            return within_time(whole * NS + round((float(value) - whole) * 1e6) * 1000)
        except (TypeError, ValueError, OverflowError, InstantError):
            raise InputError(
                f"{spot} is due at {value!r}; it must be a number of seconds since 1970, before the year 9999, a "
                "datetime or text"
            ) from None

    def _closed(self, number: Any, job: LiveJob) -> None:
        columns = self._columns
        state = self._end_of(job)
        changes: list[tuple[str, Any]] = []
        if columns.state is not None and state is not None:
            changes.append((columns.state, state))
        if columns.tries is not None:
            changes.append((columns.tries, job.attempts_made))
        if changes:
            setting = ", ".join(f"{column} = ?" for column, _ in changes)
            sql = f"update {self._table} set {setting} where {columns.id} = ?"
            self._database.change(sql, [*(value for _, value in changes), number])
            self._database.commit()

    def __repr__(self) -> str:
        return f"<outbox {self._table}: {len(self._live_jobs)} jobs>"
