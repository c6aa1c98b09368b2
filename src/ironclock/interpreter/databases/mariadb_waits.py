"""MariaDB and MySQL: what a session waits for in the server lasts simulated time.

Row locks and the locks of tables: the server is asked over a connection of the rig's own who is in the way, and when a
limit is over in simulated time it ends the statement, which fails with the error of that limit. Named locks and `SLEEP`
are waited for by the rig, and the server then gets the statement with no time to wait.
"""

from __future__ import annotations

import asyncio
import contextlib
import re
import weakref
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING, Any, NamedTuple

from ...foundation.durations import NS
from ..border.helper_threads import HelperThread
from ..border.outside_waits import ASKED, IDLE, OutsideWait
from ..border.session_blockers import only_ours
from ..patching.clock_functions import REAL

if TYPE_CHECKING:
    from ..border.outside_waits import Exchange
    from ..entered_rig import EnteredRig

_LOOKS_AGAIN_S = 0.105
# The server looks at its locks again when nobody has asked for them for a tenth of a second.
_ENDS_S = 1.0  # how long the end of a session is waited for
_STEP_S = 0.05  # how often a coroutine looks if a named lock is free
_LOCKED, _TOO_LONG, _KILLED = 1205, 1969, 1317
_WORDS = {
    _LOCKED: "Lock wait timeout exceeded; try restarting transaction",
    _TOO_LONG: "Query execution was interrupted (max_statement_time exceeded)",
}  # https://mariadb.com/kb/en/mariadb-error-code-reference/
_NUMBER = r"\s*(?P<{}>-?\d+(?:\.\d+)?)\s*\)"
_SLEEP = re.compile(r"\bsleep\s*\(" + _NUMBER.format("sleep"), re.IGNORECASE)
_LOCK = re.compile(
    r"\bget_lock\s*\(\s*(?P<name>'(?:[^'\\]|'')*'|\"(?:[^\"\\]|\"\")*\")\s*," + _NUMBER.format("limit"), re.IGNORECASE
)
_ANY_WAIT = re.compile(r"\b(?P<what>sleep|get_lock)\s*\(", re.IGNORECASE)
_FROM = re.compile(r"\bfrom\b", re.IGNORECASE)
_OWN_LIMIT = re.compile(r"\s*set\s+statement\b.*?\bmax_statement_time\s*=\s*(\d+(?:\.\d+)?)\b.*?\bfor\b", re.IGNORECASE)
_LIMITS_CHANGE = re.compile(r"timeout|statement_time|execution_time|reset|change", re.IGNORECASE)
_CALL = re.compile(r"\s*call\b", re.IGNORECASE)  # its first statements are not taken back with the one that fails
_EVENT = re.compile(r"\s*(?:create\s+(?:or\s+replace\s+)?(?:definer\s*=\s*\S+\s+)?|alter\s+)event\b", re.IGNORECASE)
_ASK_LIMITS = [
    f"select @@wait_timeout, @@innodb_lock_wait_timeout, @@lock_wait_timeout, {limit}"
    for limit in ("@@max_statement_time", "@@max_execution_time / 1000")
]  # of MariaDB, and of MySQL
_BLOCKERS = """
    select r.trx_mysql_thread_id, b.trx_mysql_thread_id from information_schema.innodb_lock_waits w
    join information_schema.innodb_trx r on r.trx_id = w.requesting_trx_id
    join information_schema.innodb_trx b on b.trx_id = w.blocking_trx_id
"""
_BLOCKERS_OF_MYSQL = "select waiting_pid, blocking_pid from sys.innodb_lock_waits"
_STATES = "select id, state, command, user from information_schema.processlist where id <> connection_id()"
_NO_CLIENTS = ("Daemon", "Binlog Dump", "Sleep")


@dataclass(frozen=True)
class DriverAccess:
    """How one driver is asked for what the waits need.

    Each function gets a connection of the driver. `rows` returns the rows of the statement that it has just sent.
    `error` makes the driver's error of a number and words. `code_of` returns the number of an error. `own` returns a
    function that opens one more connection to the same server, and returns a function that runs a query on it, and one
    that closes it. `descriptor`, `number`: of its socket and of its session in the server.
    """

    descriptor: Callable[[Any], int]
    number: Callable[[Any], int]
    rows: Callable[[Any, Any], list[Any]]
    error: Callable[[int, str], Exception]
    code_of: Callable[[BaseException], int]
    server: Callable[[Any], Any]
    own: Callable[[Any], Callable[[], tuple[Callable[[str], list[Any]], Callable[[], None]]]]


class _Limits(NamedTuple):
    """The limits of a session, in seconds. 0: none."""

    idle: float
    row_lock: float
    table_lock: float
    statement: float


class _Plan(NamedTuple):
    """What a statement waits for by its own words."""

    sleep_s: float
    lock: str
    lock_s: float
    text: str
    limit_s: float
    """The limit that the statement gives itself. 0: none."""
    cannot_follow: str

    def sleeps(self, limits: _Limits) -> tuple[float, bool]:
        """Return for how long it sleeps, in seconds, and if its limit ends that."""
        limit = _shorter(self.limit_s, limits.statement)
        is_too_long = 0 < limit < self.sleep_s
        return (limit if is_too_long else self.sleep_s), is_too_long


@lru_cache(maxsize=1024)
def planned(sql: str) -> _Plan | None:
    """Return what a statement waits for by its own words. None: nothing."""
    if _ANY_WAIT.search(sql) is None:
        return None
    limit = _OWN_LIMIT.match(sql)
    limit_s = 0.0 if limit is None else float(limit[1])
    sleeps, locks = list(_SLEEP.finditer(sql)), list(_LOCK.finditer(sql))
    found = _ANY_WAIT.findall(sql)
    if len(found) != len(sleeps) + len(locks) or len(locks) > 1 or _FROM.search(sql):
        return _Plan(0.0, "", 0.0, sql, limit_s, " ".join(sql.split())[:200])
    text = _SLEEP.sub("sleep(0)", sql)
    lock, lock_s = "", 0.0
    if locks and float(locks[0]["limit"]) > 0:
        lock, lock_s = locks[0]["name"], float(locks[0]["limit"])
        text = _LOCK.sub(lambda match: f"get_lock({match['name']}, 0)", text)
    return _Plan(sum(max(0.0, float(one["sleep"])) for one in sleeps), lock, lock_s, text, limit_s, "")


class _Server:
    """One server, and the sessions of this process with it."""

    def __init__(self, open_one: Callable[[], Any], started: Callable[[], None]) -> None:
        self._open = open_one
        self._started = started
        self._helper: HelperThread | None = None
        self._query: Callable[[str], list[Any]] | None = None
        self._end: Callable[[], None] = _nothing
        self._asked_s = -1.0  # when it was asked for its locks, in real time
        self._blocked_at: dict[int, int] = {}
        # By session that only others of this process block, how many statements they had begun and ended then.
        self.statements = 0
        """How many statements the sessions of this process have begun and ended."""
        self.numbers: set[int] = set()
        self.lines: dict[str, list[object]] = {}
        """By named lock, who waits for it, in order."""

    def ask(self, query: str) -> list[Any]:
        """Run a query on the rig's own connection, in real time."""
        if self._helper is None:
            self._helper = HelperThread(self._started)
        if self._query is None:
            self._query, self._end = self._on_helper(self._open)
        query_one = self._query
        return self._on_helper(lambda: query_one(query))  # type: ignore[no-any-return]

    def _on_helper(self, call: Callable[[], Any]) -> Any:
        assert self._helper is not None
        self._helper.begin(call)
        return self._helper.end()

    def waits_for(self, number: int) -> str:
        """Return ``"row"`` or ``"table"`` if a session waits for such a lock. Empty if it waits for none."""
        if _waits_for_table(self.ask(_STATES), number):
            return "table"
        return "row" if any(waiting == number for waiting, _ in self._in_the_way()) else ""

    def only_ours_block(self, number: int) -> bool:
        """Return True if a session waits for locks that sessions of this process alone hold, and not in a circle.

        That stays so until one of them begins or ends a statement.
        """
        if self._blocked_at.get(number) != self.statements and self._only_ours_block(number):
            self._blocked_at[number] = self.statements
        return self._blocked_at.get(number) == self.statements

    def _only_ours_block(self, number: int) -> bool:
        pairs = self._in_the_way()
        if any(waiting == number for waiting, _ in pairs):
            return only_ours(number, pairs, self.numbers)
        states = self.ask(_STATES)
        if not _waits_for_table(states, number):
            return False
        busy = {int(row[0]) for row in self.ask("select trx_mysql_thread_id from information_schema.innodb_trx")}
        self._asked_s = REAL["monotonic"]()
        busy |= {int(row[0]) for row in states if row[2] not in _NO_CLIENTS and row[3] != "system user"}
        return busy <= self.numbers

    def _in_the_way(self) -> list[tuple[int, int]]:
        REAL["sleep"](max(0.0, self._asked_s + _LOOKS_AGAIN_S - REAL["monotonic"]()))
        try:
            rows = self.ask(_BLOCKERS)
        except Exception:  # MySQL has this table no more
            rows = self.ask(_BLOCKERS_OF_MYSQL)
        finally:
            self._asked_s = REAL["monotonic"]()
        return [(int(waiting), int(blocker)) for waiting, blocker in rows]

    def has_ended(self, number: int) -> None:
        """Wait until the server knows of the end of a session, if somebody can wait for what it holds."""
        self.statements += 1
        end = REAL["monotonic"]() + _ENDS_S
        while self._helper is not None and REAL["monotonic"]() < end:
            if number not in {int(row[0]) for row in self.ask(_STATES)}:
                return
            REAL["sleep"](0.002)

    def is_free(self, lock: str, number: int) -> bool:
        """Return True if a named lock is free for a session."""
        (row,) = self.ask(f"select is_used_lock({lock})")
        return row[0] is None or int(row[0]) == number

    def close(self) -> None:
        """End the rig's own connection."""
        if self._helper is not None:
            if self._query is not None:
                with contextlib.suppress(Exception):
                    self._on_helper(self._end)
            self._helper.close()
        self._helper = self._query = None


def _waits_for_table(states: list[Any], number: int) -> bool:
    """Return True if a session waits for the lock of a table, by what the server says of all sessions."""
    state = next((str(row[1]).lower() for row in states if int(row[0]) == number), "")
    return "waiting for" in state and "lock" in state


class _Session:
    """One connection of the application."""

    def __init__(self, server: _Server, number: int) -> None:
        self.server = server
        self.number = number
        self.limits: _Limits | None = None
        self.used_ns = -1
        self.ended_by = 0
        """The error of the limit that has ended its statement. 0: none has."""


class MariaDBWaits:
    """What sessions of MariaDB and MySQL wait for, in one rig.

    Parameters: `started` is called before one more real thread starts. `cannot_follow` is called with what waits in
    real time.
    """

    def __init__(self, started: Callable[[], None], cannot_follow: Callable[[str], None]) -> None:
        self._started = started
        self._cannot_follow = cannot_follow
        self._servers: dict[Any, _Server] = {}
        self._sessions: weakref.WeakKeyDictionary[Any, _Session] = weakref.WeakKeyDictionary()

    def forget(self, connection: Any) -> None:
        """Forget a session: it was opened again, or reset."""
        self._sessions.pop(connection, None)

    def freed(self, connection: Any) -> None:
        """Note that a session can have given up its locks, past `run`."""
        session = self._sessions.get(connection)
        if session is not None:
            session.server.statements += 1

    def closed(self, connection: Any) -> None:
        """Note that a session has ended. What it held is free when the server knows that, too."""
        session = self._sessions.pop(connection, None)
        if session is not None:
            session.server.has_ended(session.number)

    def close(self) -> None:
        """End the connections of the rig's own."""
        for server in self._servers.values():
            server.close()
        self._servers.clear()
        self._sessions.clear()

    def run(
        self, world: EnteredRig, driver: DriverAccess, connection: Any, sql: str, send: Callable[[str], Any]
    ) -> Any:
        """Send a statement with `send`, and let what it waits for last simulated time."""
        session = self._session(driver, connection)
        if session.limits is None:
            try:
                rows = driver.rows(connection, send(_ASK_LIMITS[0]))
            except Exception:
                rows = driver.rows(connection, send(_ASK_LIMITS[1]))
            session.limits = _Limits(*map(float, rows[0]))
        plan = self._plan(world, session, sql)
        sleep_s, is_too_long = plan.sleeps(session.limits)
        if sleep_s:
            world.clock.let_pass(sleep_s)
        if is_too_long:
            raise driver.error(_TOO_LONG, _WORDS[_TOO_LONG])
        with _in_line(session, plan.lock) as is_first:
            if not is_first():
                until = world.loop.now + round(plan.lock_s * NS)
                exchange = world.border.outside.exchange(IDLE, "a named lock")
                world.border.outside.wait(OutsideWait(f"get_lock({plan.lock})", [exchange], (), is_first, until))
            begun = world.loop.now
            while True:
                with self._watched(world, driver, connection, session, plan.text, begun):
                    return send(plan.text)

    async def run_async(
        self, world: EnteredRig, driver: DriverAccess, connection: Any, sql: str, send: Callable[[str], Any]
    ) -> Any:
        """Do what `run` does in a coroutine: a named lock is looked at twenty times a second."""
        session = self._session(driver, connection)
        if session.limits is None:
            try:
                rows = driver.rows(connection, await send(_ASK_LIMITS[0]))
            except Exception:
                rows = driver.rows(connection, await send(_ASK_LIMITS[1]))
            session.limits = _Limits(*map(float, rows[0]))
        plan = self._plan(world, session, sql)
        sleep_s, is_too_long = plan.sleeps(session.limits)
        if sleep_s:
            await asyncio.sleep(sleep_s)
        if is_too_long:
            raise driver.error(_TOO_LONG, _WORDS[_TOO_LONG])
        until = world.loop.now + round(plan.lock_s * NS)
        with _in_line(session, plan.lock) as is_first:
            while not is_first() and world.loop.now < until:
                await asyncio.sleep(min(_STEP_S, (until - world.loop.now) / NS))
            begun = world.loop.now
            while True:
                with self._watched(world, driver, connection, session, plan.text, begun):
                    return await send(plan.text)

    # --- one statement --------------------------------------------------------------------------------

    def _session(self, driver: DriverAccess, connection: Any) -> _Session:
        number = driver.number(connection)
        found = self._sessions.get(connection)
        if found is None or found.number != number:
            key = driver.server(connection)
            server = self._servers.get(key)
            if server is None:
                server = self._servers[key] = _Server(driver.own(connection), self._started)
            found = self._sessions[connection] = _Session(server, number)
            server.numbers.add(number)
        return found

    def _plan(self, world: EnteredRig, session: _Session, sql: str) -> _Plan:
        limits = session.limits
        assert limits is not None
        idle_s = (world.loop.now - session.used_ns) / NS
        if session.used_ns >= 0 and limits.idle and idle_s >= limits.idle and world.loop.current is not None:
            # The connection of the test's own code is spared: it looks at what has become of the rest.
            session.server.ask(f"kill {session.number}")
        if _EVENT.match(sql):
            self._cannot_follow(sql)
        plan = planned(sql) or _Plan(0.0, "", 0.0, sql, 0.0, "")
        if plan.cannot_follow:
            self._cannot_follow(plan.cannot_follow)
        return plan

    @contextmanager
    def _watched(
        self, world: EnteredRig, driver: DriverAccess, connection: Any, session: _Session, sql: str, begun: int
    ) -> Iterator[None]:
        """Let the limits of a statement run in simulated time inside the block, where it is sent and answered.

        If a real limit of the server was over before the simulated one, the error is swallowed: the server has taken
        the statement back, and it can be sent again.
        """
        descriptor = driver.descriptor(connection)
        exchange = world.border.descriptors.exchange(descriptor)
        server, number, limits = session.server, session.number, session.limits
        assert limits is not None
        session.ended_by = 0
        sent, own = world.loop.now, planned(sql)
        statement = limits.statement or (0.0 if own is None else own.limit_s)
        server.statements += 1

        def arm(asked: Exchange) -> None:
            if asked.kind is not ASKED:
                return
            passed = (world.loop.now - begun) / NS
            rest = [one - passed for one in (statement, limits.row_lock, limits.table_lock) if one - passed > 0]
            if rest:
                world.border.server_timers.begin(asked, min(rest), lambda: over(asked))

        def over(asked: Exchange) -> None:
            passed = (world.loop.now - begun) / NS + 1e-9
            error = _TOO_LONG if statement and passed >= statement else 0
            if not error:
                lock = server.waits_for(number)
                if not lock and not world.border.server_timers.has_answer(descriptor):
                    lock = server.waits_for(number)  # it can just have begun to wait
                limit = {"row": limits.row_lock, "table": limits.table_lock}.get(lock)
                error = _LOCKED if limit is not None and passed >= limit else 0
            if error:
                session.ended_by = error
                server.ask(f"kill query {number}")
                world.border.server_timers.answers(descriptor)
            else:
                asked.ended_by_server = False
                arm(asked)

        exchange.only_we_end_it = lambda: server.only_ours_block(number)
        exchange.begins = arm
        try:
            yield
        except Exception as error:
            if session.ended_by and driver.code_of(error) == _KILLED:
                raise driver.error(session.ended_by, _WORDS[session.ended_by]) from None
            passed = (world.loop.now - begun) / NS + 1e-9
            locks = _shorter(limits.row_lock, limits.table_lock)
            too_early = {_LOCKED: passed < locks, _TOO_LONG: passed < statement}.get(driver.code_of(error), False)
            if not too_early or world.loop.now == sent or _CALL.match(sql):
                raise  # no simulated time has passed since it was sent: another process is in the way
        finally:
            server.statements += 1
            exchange.only_we_end_it = exchange.begins = None
            if exchange.timer is not None:
                exchange.timer.state, exchange.timer = "withdrawn", None
            session.used_ns = world.loop.now
            if _LIMITS_CHANGE.search(sql):
                session.limits = None  # they are asked for again


@contextmanager
def _in_line(session: _Session, lock: str) -> Iterator[Callable[[], bool]]:
    """Stand in the line for a named lock (empty: none) inside the block; give what tells if it is free, and this one's
    turn."""
    if not lock:
        yield lambda: True
        return
    me = object()
    line = session.server.lines.setdefault(lock.lower(), [])
    line.append(me)
    try:
        yield lambda: line[0] is me and session.server.is_free(lock, session.number)
    finally:
        line.remove(me)


def _shorter(one: float, other: float) -> float:
    """Return the shorter of two limits, of which 0 is none."""
    return min(limit for limit in (one, other) if limit) if one or other else 0.0


def _nothing() -> None:
    return
