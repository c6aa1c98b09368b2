"""The SQL outbox: jobs that the application writes into a table of its database."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields
from typing import TYPE_CHECKING, Any, TypeAlias

from ..errors import InputError, InstantError, PayloadError, UnknownJob, nearest
from ..foundation.durations import NS
from ..foundation.instants import instant_ns, within_time
from ..interpreter.patching.real_threads import others_run
from ..simulation.event_loop import Waiter
from ..simulation.jobs import OPEN, Job, LiveAttempt, LiveJob
from ..simulation.policy import JobLike
from .model_columns import columns_of, is_model, table_of
from .observed_jobs import RowFailed
from .sql import Database

if TYPE_CHECKING:
    from ..simulation.simulation import Simulation
    from .job_registry import JobRegistry
    from .worker_loops import WorkerLoops


@dataclass(frozen=True)
class Columns:
    """The names of the columns of a job table, and of the states in it.

    - `id`, `name`: the row's id, and the job's name.
    - `args`: the arguments as a JSON array. Default ``"args"``. None: no such column.
    - `kwargs`: the keyword arguments as a JSON object. Default None: no such column. A payload that is one JSON object
      is ``args=None, kwargs="payload"``.
    - `queue`, `priority`: the queue's name and the priority. Default None.
    - `due`: seconds since the epoch, a datetime (without a zone: UTC) or ISO 8601 text. Default None: due at once.
    - `state`: the state of the row. Default None: every row is read.
    - `tries`: written with the number of attempts. Default None.
    - `worker`: who has the row. Default None.
    - `error`: written with the error of the last attempt. Default None.
    - `waiting`: the state of rows that wait for an attempt; several, if there are several. Default ``"waiting"``.
    - `claimed`: the state of rows that a worker has; several, if there are several. Default None: not written.
    - `done`, `dead`: the states written when the job is closed. Default None: not written.

    Raises `InputError`.

    Example::

        columns = ic.Columns(args=None, kwargs="payload", due="run_at", state="state", done="sent")
        rig.outbox(connection, table="outbox", columns=columns, handlers={"manifest": submit_manifest})
    """

    id: str = "id"
    name: str = "name"
    args: str | None = "args"
    kwargs: str | None = None
    queue: str | None = None
    due: str | None = None
    priority: str | None = None
    state: str | None = None
    tries: str | None = None
    worker: str | None = None
    error: str | None = None
    waiting: object = "waiting"
    claimed: object = None
    done: object = None
    dead: object = None

    def __post_init__(self) -> None:
        for one in fields(self):
            value = getattr(self, one.name)
            if one.name in _STATES or (value is None and (one.default is None or one.name == "args")):
                continue
            if not isinstance(value, str) or not value.replace("_", "a").isalnum():
                raise InputError(f"the column {one.name} is {value!r}; give the name of a column")
        given = [name for name in ("claimed", "done", "dead") if getattr(self, name) is not None]
        if self.state is None and given:
            raise InputError(f"{' and '.join(given)} is given, and no state column to write it into; give state=...")

    @staticmethod
    def of(model: object) -> Columns:
        """Return the columns of a model of SQLAlchemy or Django, by the common names of columns and states.

        Parameters: `model` is the class. Raises `InputError` if it has no column for the name of the job. Example::

            columns = dataclasses.replace(ic.Columns.of(Letter), due="send_at")
        """
        if not is_model(model):
            raise InputError(f"the model is {model!r}; give a model class of SQLAlchemy or Django")
        return Columns(**columns_of(model))


_STATES = ("waiting", "claimed", "done", "dead")
_UNKNOWN = (object(), object())


def _several(value: Any) -> tuple[Any, ...]:
    return () if value is None else tuple(value) if isinstance(value, (tuple, list, set, frozenset)) else (value,)


Handlers: TypeAlias = "Mapping[str, JobLike] | Callable[[str], JobLike]"
"""The function or job type of each name in a table."""


class Outbox:
    """A job table as a source of jobs. `Rig.outbox` gives it.

    The table is read before anything runs, and after every event. Rows of an open transaction of the same connection
    are not read. If a row disappears, or its state changes, before its job has started, the job is withdrawn. If it
    changes otherwise, the job is withdrawn, and another one takes its place. A row that is set back to waiting after
    its job has ended becomes a new job, and so does another row with the same id.

    With ``runs=False`` the application's own workers run the jobs (`Rig.run_loop`). Then the rows say what becomes of
    each job: it is claimed, waits again, is done, or is dead.

    Parameters:

    - `database`: a connection (DB-API 2.0, SQLAlchemy or Django), an engine, a session or a session maker of
      SQLAlchemy, a URL, or a function that returns one of them.
    - `table`: the name of the table, or a model of SQLAlchemy or Django.
    - `columns`: `Columns`. Default None: those of the model.
    - `handlers`: a mapping or a function from the name in a row to a callable. Default None: names of job types.
    - `where`: one more condition in SQL. Default None.
    - `runs`: False if the application's own workers run the jobs. Default True.

    Raises `InputError`. A row that cannot be read raises `PayloadError`, `UnknownJob` or `InputError`.
    """

    def __init__(
        self, database: object, table: object, columns: Columns | None, handlers: Handlers | None,
        where: str | None, runs: bool, simulation: Simulation, registry: JobRegistry, loops: WorkerLoops,
    ) -> None:  # fmt: skip
        if is_model(table):
            columns = Columns.of(table) if columns is None else columns
            table = table_of(table)
        if not isinstance(columns, Columns):
            raise InputError(f"columns is {columns!r}; give an ic.Columns(...), or a model as table=")
        if not isinstance(table, str) or not table.replace("_", "a").replace(".", "a").isalnum():
            raise InputError(f"table is {table!r}; give a table's name, or a model of SQLAlchemy or Django")
        if not isinstance(runs, bool):
            raise InputError(f"runs is {runs!r}; give True, or False if the application's own workers run the jobs")
        if not runs and columns.state is None and columns.due is None:
            raise InputError(
                "runs is False, and the state column is missing that says who has a row; give Columns(state=..., "
                "claimed=...)"
            )
        if not runs and columns.state is not None and None in (columns.claimed, columns.done):
            raise InputError(
                f"runs is False, and it is not known which {columns.state} a row of {table} has that a worker has "
                "claimed or done; give Columns(claimed=..., done=...)"
            )
        self._database = Database(database, simulation.loop.unseen, self._requests)
        self._table = table
        self._columns = columns
        self._handlers = handlers
        self.runs = runs
        """True if the rig's workers run its jobs."""
        self._loop = simulation.loop
        self._history = simulation.history
        self._broker = simulation.broker
        self._registry = registry
        self._loops = loops
        self._live_jobs: dict[Any, LiveJob] = {}
        self._rows: dict[Any, dict[str, Any]] = {}  # by id, as read the last time
        self._written: dict[Any, tuple[Any, ...]] = {}  # by id, what of its job was written last
        self._claims: dict[LiveAttempt, tuple[Any, Any]] = {}  # by running attempt, the worker and the tries of its row
        self._reading = False
        self.version: Any = None
        """As it was at the last look: another value after every change of the database."""
        self.changes = 0
        """How many looks have found other rows than the one before."""
        self._parts = {
            part: name
            for part in (
                "id",
                "name",
                "args",
                "kwargs",
                "queue",
                "due",
                "priority",
                "state",
                "tries",
                "worker",
                "error",
            )
            if (name := getattr(columns, part)) is not None
        }
        if runs:
            for part in ("state", "tries", "worker", "error"):
                self._parts.pop(part, None)  # the rig writes them itself
        self._waiting, self._claimed = _several(columns.waiting), _several(columns.claimed)
        self._done, self._dead = _several(columns.done), _several(columns.dead)
        conditions = []
        self._values: list[Any] = []
        if runs and columns.state is not None:
            self._values = list(self._waiting)
            marks = ", ".join("?" * len(self._values))
            conditions.append(f"{columns.state} = ?" if len(self._values) == 1 else f"{columns.state} in ({marks})")
        conditions += [f"({where})"] if where else []
        self._select = (
            f"select {', '.join(self._parts.values())} from {table}"
            f"{' where ' * bool(conditions)}{' and '.join(conditions)} order by {columns.id}"
        )
        self._loop.waiters.append(Waiter(None, self._look))
        if not runs:
            loops.tables.append(self)

    @property
    def jobs(self) -> dict[Any, Job[Any]]:
        """The jobs by the id of their row."""
        return {number: job.reader for number, job in self._live_jobs.items()}

    def _requests(self) -> int:
        """Return how many requests could have changed the table. -1: anybody can have changed it."""
        return self._loop.requests if self._loop.running and not others_run() else -1

    def close(self) -> None:
        """Close what was opened for it: its rig is left."""
        self._database.close()

    def live_job(self, number: object) -> LiveJob | None:
        """Return the job of a row. None if it has none. Parameters: `number` is its number or index."""
        found = self._live_jobs.get(number)
        if found is None:
            self._look()
            found = self._live_jobs.get(number)
        return found

    def look(self) -> None:
        """Look at the table, if nobody is looking at it."""
        self._look()

    def _has_changed(self) -> bool:
        """Return True if the database can have other rows than at the last look."""
        version = self._database.version()
        changed = version is None or version != self.version
        self.version = version
        if not changed:
            self._loops.observed.settle_rest()
        return changed

    def next_due_ns(self) -> int | None:
        """Return when the next row that waits falls due. None if none waits. -1 if a worker could do something now.

        A row that somebody has claimed can be taken away at any time, and so it counts as one.
        """
        now = self._loop.now
        dues = [self._live_jobs[number].due_ns for number, row in self._rows.items() if self._is_open(number, row)]
        claimed = any(row.get("state") in self._claimed for row in self._rows.values())
        next_due = min(dues, default=None)
        return -1 if claimed or (next_due is not None and next_due <= now) else next_due

    def _is_open(self, number: Any, row: dict[str, Any]) -> bool:
        return number in self._live_jobs and row.get("state") not in (*self._claimed, *self._done, *self._dead)

    # --- reading ------------------------------------------------------------------------------------

    def read(self) -> list[Job[Any]]:
        """Read the table; return the new jobs. The rig does this before anything runs, and after every event."""
        if self._database.in_transaction():
            return []
        if self.runs:
            self._write_changes()
        elif not self._has_changed():
            return []
        try:
            read = self._database.rows(self._select, self._values)
        except Exception as error:
            self._explain(error)
            raise
        rows = [dict(zip(self._parts, row, strict=True)) for row in read]
        there = {row["id"]: row for row in rows}
        made = self._read_to_run(there) if self.runs else self._read_to_observe(there)
        if there != self._rows:
            self.changes += 1
        self._rows = there
        return [job.reader for job in made]

    def _explain(self, error: Exception) -> None:
        """Raise `InputError` if the table, or one of its columns, is not there."""
        try:
            there = self._database.columns(self._table)
        except Exception:
            raise InputError(
                f"the table {self._table} cannot be read: {str(error).strip().splitlines()[0]}; create it before the "
                "rig runs, or correct table="
            ) from error
        known = [name.lower() for name in there]
        for part, name in (
            *self._parts.items(),
            *((p, getattr(self._columns, p)) for p in ("state", "tries", "error")),
        ):
            if name is not None and name.lower() not in known:
                raise InputError(
                    f"the table {self._table} has no column {name!r}, which Columns names as {part}; "
                    f"{nearest(name, there)}"
                ) from error

    def _read_to_run(self, there: dict[Any, dict[str, Any]]) -> list[LiveJob]:
        before = self._rows
        for number, job in self._live_jobs.items():
            row = there.get(number)
            unchanged = row is not None and row == before.get(number, row)
            if unchanged or job.attempts_made or job.state not in ("held", "ready"):
                continue
            how = "is gone" if row is None else "has changed"
            self._history.record("note", job, 0, f"its row {number!r} of {self._table} {how}")
            self._broker.withdraw(job)
        return [self._take(number, row) for number, row in there.items() if self._is_new(number, row, before)]

    def _is_new(self, number: Any, row: dict[str, Any], before: dict[Any, dict[str, Any]]) -> bool:
        """Return True if a row is to become a job: it is new, it has changed, or it waits again."""
        job = self._live_jobs.get(number)
        if job is None:
            return True
        if job.state in OPEN:
            return False
        # If the rig has written the end of the job into its row, and the row waits now, somebody has set it back. If
        # not, a row that was away is another one with the same id.
        return row != before.get(number) or self._end_of(job) is not None

    def _end_of(self, job: LiveJob) -> Any:
        """Return what is written into the state column of the row of a closed job. None: nothing."""
        columns, change = self._columns, self._broker.change
        if columns.state is None or (change is not None and change.keeps_rows == job.type.name):
            return None
        states = self._done if job.state == "done" else self._dead if job.state in ("dead", "dropped") else ()
        return states[0] if states else None

    def _look(self) -> bool:
        if not self._reading:
            self._reading = True
            try:
                self.read()
            finally:
                self._reading = False
        return False

    def _take(self, number: Any, row: dict[str, Any]) -> LiveJob:
        spot = f"row {number!r} of {self._table}"
        type, args, kwargs = self._call(row, spot)
        due = max(self._due(row.get("due"), spot), self._loop.now)
        if self.runs:
            job = self._broker.enqueue(type, args, kwargs, due, row.get("queue"), row.get("priority"))
            job.copies_arguments = True
            job.when_closed(lambda closed: self._closed(number, closed))
        else:
            job = self._loops.observed.enter(type, args, kwargs, due, row.get("queue"), row.get("priority"))
        self._live_jobs[number] = job
        self._written.pop(number, None)
        return job

    def _call(self, row: dict[str, Any], spot: str) -> tuple[Any, tuple[Any, ...], dict[str, Any]]:
        args = self._json(row.get("args"), list, spot)
        kwargs = self._json(row.get("kwargs"), dict, spot)
        type = self._registry.type_of(self._handler(row["name"], spot))
        if not self.runs:
            return type, tuple(args), kwargs  # its handler can be called in another way
        call = type.call(*args, **kwargs)
        return type, call.args, call.kwargs

    # --- jobs that others run -----------------------------------------------------------------------

    def _read_to_observe(self, there: dict[Any, dict[str, Any]]) -> list[LiveJob]:
        made = []
        for number in [number for number in self._rows if number not in there]:
            gone = self._live_jobs.get(number)
            if gone is not None and gone.state in OPEN:
                self._loops.observed.row_is_gone(gone, self._loops.last())
        for number, row in there.items():
            if row == self._rows.get(number):
                continue
            known = self._live_jobs.get(number)
            if known is None or (known.state not in OPEN and number not in self._rows):
                known = self._take(number, row)
                made.append(known)
            self._follow(known, row, self._rows.get(number, {}))
        self._loops.observed.settle_rest()
        return made

    def _follow(self, job: LiveJob, row: dict[str, Any], before: dict[str, Any]) -> None:
        """Write down what a changed row says of its job."""
        observed, state = self._loops.observed, row.get("state")
        spot = f"row {row['id']!r} of {self._table}"
        text, by = row.get("error"), self._loops.last()
        error = RowFailed(str(text)) if text else None
        if state in self._claimed:
            self._claimed_by(job, row, before)
        elif state in self._done:
            if job.state in OPEN:
                self._catch_up(job, row, 1)
                observed.row_is_done(job, by)
        elif state in self._dead:
            if job.state in OPEN:
                self._catch_up(job, row, 0)
                observed.row_is_dead(job, error, by)
        else:
            due = self._due(row.get("due"), spot)
            if before and job.state in OPEN:
                self._catch_up(job, row, 0)
            if before and (
                before.get("state") not in self._waiting
                or job.state not in OPEN
                or row.get("tries") != before.get("tries")
            ):
                observed.row_waits(job, due, error, by)
            elif job.state != "running":
                job.due_ns = due

    def _catch_up(self, job: LiveJob, row: dict[str, Any], least: int) -> None:
        """Write down an attempt that was begun and ended between two looks: its row has more tries, or is done."""
        tries = row.get("tries")
        wanted = tries if isinstance(tries, int) else least
        loop = self._loops.last()
        if job.attempts_made < max(wanted, least) and not job.running_attempt and loop is not None:
            self._loops.observed.begin(job, loop, by_handler=False)

    def _claimed_by(self, job: LiveJob, row: dict[str, Any], before: dict[str, Any]) -> None:
        """Write down that a worker has claimed a row, unless that is known: its handler has told, or an earlier look.

        A row that stays claimed has another attempt if its worker changes, or if it counts more tries than are known.
        """
        running, loop = job.running_attempt, self._loops.last()
        if running is not None:
            claim, tries = self._claims.get(running, _UNKNOWN), row.get("tries")
            stays = before.get("state") in self._claimed
            taken = stays and claim is not _UNKNOWN and row.get("worker") != claim[0]
            again = stays and claim is not _UNKNOWN and tries != claim[1] and (
                running.started_ns < self._loop.now or (isinstance(tries, int) and tries > job.attempts_made)
            )  # fmt: skip
            if not (taken or again):
                self._claims[running] = row.get("worker"), tries
                return
        if loop is not None:
            attempt = self._loops.observed.begin(job, loop, by_handler=False)
            self._claims[attempt] = row.get("worker"), row.get("tries")

    def _handler(self, name: str, spot: str) -> Any:
        handlers = self._handlers
        if handlers is None:
            known = self._broker.types
            if name not in known and not self.runs:
                return self._registry.placeholder(str(name))
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

    # --- writing ------------------------------------------------------------------------------------

    def _closed(self, number: Any, job: LiveJob) -> None:
        self._broker.with_rows[job.type.name] = None
        change = self._broker.change
        if change is None or change.keeps_rows != job.type.name:
            self._write(number, job)

    def _write_changes(self) -> None:
        """Write what has become of the jobs, for columns that say more than the end."""
        if not self._claimed and self._columns.error is None:
            return
        for number, job in self._live_jobs.items():
            if job.state in ("running", "backing-off"):
                self._write(number, job)

    def _write(self, number: Any, job: LiveJob) -> None:
        columns = self._columns
        changes: list[tuple[str, Any]] = []
        state: Any = None
        if job.state == "running":
            state = self._claimed[0] if self._claimed else None
        elif job.state == "backing-off":
            state = self._waiting[0] if self._claimed else None
        else:
            state = self._end_of(job)
        if columns.state is not None and state is not None:
            changes.append((columns.state, state))
        if columns.tries is not None:
            changes.append((columns.tries, job.attempts_made))
        if columns.error is not None and job.error is not None:
            changes.append((columns.error, f"{type(job.error).__name__}: {job.error}"))
        if columns.due is not None and job.state == "backing-off":
            changes.append((columns.due, self._as_due(number, job.due_ns)))
        if changes and self._written.get(number) != tuple(changes):
            self._written[number] = tuple(changes)
            setting = ", ".join(f"{column} = ?" for column, _ in changes)
            sql = f"update {self._table} set {setting} where {columns.id} = ?"
            self._database.change(sql, [*(value for _, value in changes), number])

    def _as_due(self, number: Any, ns: int) -> Any:
        """Return an instant in the form that the row had."""
        before = self._rows.get(number, {}).get("due")
        at = self._loop.timeline.at(ns).astimezone(dt.timezone.utc)
        if isinstance(before, str):
            return (
                at.isoformat()
                if before[-6:-5] in "+-" or before.endswith("Z")
                else at.replace(tzinfo=None).isoformat(sep=before[10:11] or "T")
            )
        if isinstance(before, dt.datetime):
            return at if before.tzinfo is not None else at.replace(tzinfo=None)
        return ns / NS

    def __repr__(self) -> str:
        return f"<outbox {self._table}: {len(self._live_jobs)} jobs>"
