"""SQLite: its lock waits and its clock follow the rig, through the operating system layer of the library itself.

SQLite asks its VFS object for the time and for sleep (https://www.sqlite.org/c3ref/vfs.html). Both entries of every VFS
are pointed at callbacks. So its own busy handler (`busy_timeout`) waits in simulated time, step by step as it does in
real time, and ``CURRENT_TIMESTAMP`` follows in every connection, whenever that was opened.

A build that hides the library (linked into the interpreter) has another way (`HiddenSQLite`): functions of the rig in
each connection that is used, and lock waits step by step in Python.
"""

from __future__ import annotations

import contextlib
import ctypes
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..patching.builtin_patching import Builtin, Here
from ..patching.patches import Methods, Patch
from ..tasks.end_without_handlers import ending
from .call_seams import seams_of, sql_call

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig

_JULIAN_EPOCH_MS = 210_866_760_000_000  # 1970-01-01 in milliseconds since noon of day 0


class _VFS(ctypes.Structure):
    pass


_VFS._fields_ = [
    ("version", ctypes.c_int), ("size", ctypes.c_int), ("max_path", ctypes.c_int), ("next", ctypes.POINTER(_VFS)),
    ("name", ctypes.c_char_p), ("data", ctypes.c_void_p),
    *((name, ctypes.c_void_p) for name in (
        "open", "delete", "access", "full_path", "dl_open", "dl_error", "dl_sym", "dl_close", "randomness", "sleep",
        "current_time", "last_error", "current_time_ms",
    )),
]  # fmt: skip
_Sleep = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_void_p, ctypes.c_int)
_Time = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_void_p, ctypes.POINTER(ctypes.c_int64))


class SQLiteClock:
    """The two entries of the VFS objects of the library that `sqlite3` uses."""

    def __init__(self, here: Here) -> None:
        self._here = here
        self._sleep, self._time = _Sleep(self._sleeps), _Time(self._tells_time)
        self._saved: list[tuple[_VFS, int, int]] = []
        self._real_sleep: Callable[..., int] = lambda _vfs, microseconds: microseconds
        self._real_time: Callable[..., int] = lambda _vfs, out: 1
        self.found = False
        """True if the library lets itself be patched. A statically linked build can hide it."""
        for vfs in _vfs_objects():
            if not self.found:
                self._real_sleep, self._real_time = _Sleep(vfs.sleep), _Time(vfs.current_time_ms)
                first = vfs.sleep
                self.found = True
            if vfs.sleep == first and vfs.version >= 2:
                self._saved.append((vfs, vfs.sleep, vfs.current_time_ms))

    def put(self) -> None:
        for vfs, _, _ in self._saved:
            vfs.sleep = ctypes.cast(self._sleep, ctypes.c_void_p).value
            vfs.current_time_ms = ctypes.cast(self._time, ctypes.c_void_p).value

    def restore(self) -> None:
        for vfs, sleep, time in self._saved:
            vfs.sleep, vfs.current_time_ms = sleep, time

    def _sleeps(self, vfs: int, microseconds: int) -> int:
        world = self._here()
        if world is None:
            return self._real_sleep(vfs, microseconds)
        key = _thread_of(world)
        if ending() or key in world.border.sqlite_errors:
            return microseconds  # this wait is over: SQLite gives up after its last step
        try:
            world.clock.sleep(microseconds / 1e6)
        except BaseException as error:
            world.border.sqlite_errors[key] = (
                error  # no error can pass through the library: it is raised when that returns
            )
        return microseconds

    def _tells_time(self, vfs: int, out: Any) -> int:
        world = self._here()
        if world is None:
            return self._real_time(vfs, out)
        out[0] = world.clock.wall_ns() // 1_000_000 + _JULIAN_EPOCH_MS
        return 0


def _vfs_objects() -> list[_VFS]:
    """Return every VFS object of the library that `sqlite3` has loaded. None if the library hides them."""
    import _sqlite3

    try:
        # A module that is linked into the interpreter has no file: the interpreter itself can know the function.
        find = ctypes.CDLL(getattr(_sqlite3, "__file__", None)).sqlite3_vfs_find
    except (OSError, AttributeError):
        return []
    find.restype, find.argtypes = ctypes.POINTER(_VFS), [ctypes.c_char_p]
    found = []
    at = find(None)
    while at:
        found.append(at.contents)
        at = at.contents.next
    return found


# --- connections ------------------------------------------------------------------------------------

_CONNECTION = ("cursor", "commit", "rollback", "execute", "executemany", "executescript", "close", "__exit__")
_CHECKED = (
    "create_function", "create_aggregate", "create_window_function", "create_collation", "set_authorizer",
    "set_progress_handler", "set_trace_callback", "enable_load_extension", "load_extension", "backup", "serialize",
    "deserialize", "getlimit", "setlimit", "blobopen", "iterdump", "getconfig", "setconfig",
)  # fmt: skip
_CURSOR = ("execute", "executemany", "executescript", "fetchone", "fetchmany", "fetchall")


def _statement_name(cursor: Any, args: tuple[Any, ...]) -> tuple[str, bool] | None:
    return sql_call(args[0]) if args and isinstance(args[0], str) else None


_NAMED = {
    **dict.fromkeys(("execute", "executemany", "executescript"), _statement_name),
    "commit": lambda one, args: ("sql COMMIT", True) if one.in_transaction else None,
    "__exit__": lambda one, args: ("sql COMMIT", True) if one.in_transaction and args[:1] == (None,) else None,
}


def clock_patches(here: Here) -> list[Patch]:
    """Return the patch of the clock of SQLite."""
    return [SQLiteClock(here)]


def connection_patches(here: Here) -> list[Patch]:
    """Return the patches of connections: which thread may use one, and who has a transaction open in it."""
    import sqlite3

    owners = _Owners(here)
    hidden = None if SQLiteClock(here).found else HiddenSQLite(here)

    def used(of: Callable[[Any], Any] | None, fetches: bool, named: Any = None) -> Callable[[Any], Any]:
        """Return a function that makes a method from a real one.

        Parameters: `of` returns the connection of its object; None: it is one. `fetches` is True if it only fetches.
        `named` returns the name of a call with its seams, and if it changes something; None: it has none.
        """

        def make(real: Any) -> Any:
            def seamed(one: Any, *args: Any, **kwargs: Any) -> Any:
                world = here()
                seams = seams_of(world, "sql")
                call = None if seams is None else named(one, args)
                if seams is None or call is None:
                    return method(one, *args, **kwargs)
                what, changes = call
                changed = seams.has_changed_rows if changes else None
                return seams.around(what, lambda: method(one, *args, **kwargs), sqlite3.OperationalError, changed)

            def method(one: Any, *args: Any, **kwargs: Any) -> Any:
                world = here()
                if world is None:
                    return real(one, *args, **kwargs)
                connection = one if of is None else of(one)
                border, task = world.border, world.loop.current
                key = None if task is None else task.thread_key
                if border.sqlite_owners.get(id(connection)) != key:
                    owners.check(world, connection)
                errors = border.sqlite_errors
                if errors:
                    errors.pop(key, None)  # of a call that does not come through here
                try:
                    if hidden is None:
                        result = real(one, *args, **kwargs)
                    else:
                        result = hidden.call(world, connection, lambda: real(one, *args, **kwargs))
                except Exception:
                    if key in errors:
                        raise errors.pop(key) from None
                    raise
                if errors and key in errors:
                    raise errors.pop(key)
                if fetches and result and border.call_seams is not None:
                    border.call_seams.fetched(one)
                if not fetches:  # to fetch opens no transaction
                    owners.used(world, connection)
                return result

            return method if named is None else seamed

        return make

    def checked(of: Callable[[Any], Any] | None) -> Callable[[Any], Any]:
        def make(real: Any) -> Any:
            def method(one: Any, *args: Any, **kwargs: Any) -> Any:
                world = here()
                if world is not None:
                    owners.check(world, one if of is None else of(one))
                return real(one, *args, **kwargs)

            return method

        return make

    connection_of = sqlite3.Cursor.connection.__get__
    return [
        Methods(
            sqlite3.Connection,
            {
                **{name: used(None, False, _NAMED.get(name)) for name in _CONNECTION},
                **dict.fromkeys(_CHECKED, checked(None)),
            },
        ),
        Methods(
            sqlite3.Cursor,
            {
                **{name: used(connection_of, name.startswith("fetch"), _NAMED.get(name)) for name in _CURSOR},
                "close": checked(connection_of),
            },
        ),
        owners,
        *([] if hidden is None else [hidden]),
    ]


_DELAYS_MS = (1, 2, 5, 10, 15, 20, 25, 25, 25, 50, 50, 100)
# The steps of SQLite's own busy handler (https://www.sqlite.org/c3ref/busy_timeout.html).
_TIME_FUNCTIONS = ("date", "time", "datetime", "julianday", "unixepoch", "strftime", "timediff")


class HiddenSQLite:
    """What `SQLiteClock` does, for a build of SQLite whose entries cannot be reached.

    The date functions of each connection are replaced when it is used for the first time in a rig. Afterwards they
    give the real time again, since they ask who has entered a rig.
    """

    def __init__(self, here: Here) -> None:
        import sqlite3

        self._here = here
        self._locked = sqlite3.OperationalError
        self._real = sqlite3.connect(":memory:", check_same_thread=False)  # has the functions as they were
        self._seen: dict[int, tuple[Any, int]] = {}  # by identity, a connection and its timeout in milliseconds
        self._inside = False  # true while it uses a connection itself

    def put(self) -> None:
        """Do nothing: a connection is changed when it is used."""

    def restore(self) -> None:
        """Give every connection its own timeout back. Its functions look who has entered a rig."""
        for connection, timeout_ms in self._seen.values():
            with contextlib.suppress(Exception):  # it is closed
                connection.execute(f"pragma busy_timeout = {timeout_ms}").fetchone()
        self._seen.clear()

    def call(self, world: EnteredRig, connection: Any, call: Callable[[], Any]) -> Any:
        """Make a call on a connection. A lock is waited for in simulated time."""
        if self._inside:
            return call()
        timeout_ms = self._for_itself(lambda: self._begin(connection))
        waited_ms, turn = 0, 0
        while True:
            try:
                return call()
            except self._locked as error:
                if "locked" not in str(error) or ending():
                    raise
                delay = min(_DELAYS_MS[min(turn, len(_DELAYS_MS) - 1)], timeout_ms - waited_ms)
                if delay <= 0:
                    raise
                world.clock.sleep(delay / 1e3)
                waited_ms, turn = waited_ms + delay, turn + 1

    def _for_itself(self, call: Callable[[], Any]) -> Any:
        was, self._inside = self._inside, True
        try:
            return call()
        finally:
            self._inside = was

    def _begin(self, connection: Any) -> int:
        """Let the functions of a connection follow; return its timeout in milliseconds."""
        (asked_ms,) = connection.execute("pragma busy_timeout").fetchone()
        if asked_ms:  # it is new, or its program has set it
            connection.execute("pragma busy_timeout = 0").fetchone()
            if id(connection) not in self._seen:
                self._put_functions(connection)
            self._seen[id(connection)] = connection, asked_ms
        return self._seen[id(connection)][1] if id(connection) in self._seen else 0

    def _put_functions(self, connection: Any) -> None:
        for name in _TIME_FUNCTIONS:
            with contextlib.suppress(Exception):  # an older SQLite has not all of them
                connection.create_function(name, -1, self._function(name))
        for name, format in (
            ("current_timestamp", "%Y-%m-%d %H:%M:%S"), ("current_date", "%Y-%m-%d"), ("current_time", "%H:%M:%S"),
        ):  # fmt: skip
            connection.create_function(name, 0, lambda format=format: self._ask("strftime", format, self._now()))

    def _function(self, name: str) -> Callable[..., Any]:
        at = 1 if name == "strftime" else 0

        def call(*args: Any) -> Any:
            given = list(args)
            if len(given) <= at:
                given.append("now")
            for place, value in enumerate(given):
                if place >= at and isinstance(value, str) and value.lower() == "now":
                    given[place] = self._now()
            return self._ask(name, *given)

        return call

    def _now(self) -> str:
        world = self._here()
        if world is None:
            return "now"
        ms = world.clock.wall_ns() // 1_000_000
        return f"{self._ask('datetime', ms // 1000, 'unixepoch')}.{ms % 1000:03d}"

    def _ask(self, name: str, *args: Any) -> Any:
        sql = f"select {name}({', '.join('?' * len(args))})"
        return self._for_itself(lambda: self._real.execute(sql, args).fetchone()[0])


class _Owners:
    """A patch of `sqlite3.connect`: it notes which thread of a rig has opened a connection."""

    def __init__(self, here: Here) -> None:
        import sqlite3

        self._here = here
        self._error = sqlite3.ProgrammingError
        self._connect = Builtin(sqlite3.connect)
        self._rollback = sqlite3.Connection.rollback
        self._checks = _find_check()

    def put(self) -> None:
        self._connect.point(self._opens)

    def restore(self) -> None:
        self._connect.restore()

    def _opens(self, *args: Any, **kwargs: Any) -> Any:
        connection = self._connect.real(*args, **kwargs)
        world = self._here()
        if world is not None:
            world.border.sqlite_owners[id(connection)] = _thread_of(world)
            world.border.sqlite_files.setdefault(str(args[0] if args else kwargs.get("database", "")))
        return connection

    def check(self, world: EnteredRig, connection: Any) -> None:
        """Raise what `sqlite3` raises if a connection is used in another thread than the one that opened it."""
        owner, mine = world.border.sqlite_owners.get(id(connection)), _thread_of(world)
        if owner == mine or not self._checks(connection):
            return
        created, used = (_words(thread) for thread in (owner, mine))
        raise self._error(
            "SQLite objects created in a thread can only be used in that same thread. The object was created in "
            f"{created} and this is {used}; real workers have threads of their own: open a connection in the job, or "
            "give check_same_thread=False"
        )

    def used(self, world: EnteredRig, connection: Any) -> None:
        """Note who has a transaction open."""
        try:
            is_open = connection.in_transaction
        except self._error:  # it is closed
            is_open = False
        uses = world.border.database_uses
        if is_open:
            uses.note(connection, self._rollback)
        elif uses.any_open:
            uses.closed(connection)


def _thread_of(world: EnteredRig) -> Any:
    task = world.loop.current
    return None if task is None else task.thread_key


def _words(thread: Any) -> str:
    if thread is None:
        return "the test's thread"
    return f"the thread of worker {thread}" if isinstance(thread, str) else repr(thread)


def _find_check() -> Callable[[Any], bool]:
    """Return a function that says if a connection checks its thread: a whole number in its C structure, 0 or 1."""
    import sqlite3

    many = [sqlite3.connect(":memory:", check_same_thread=bool(n % 2)) for n in range(6)]
    size = ctypes.sizeof(ctypes.c_int)
    try:
        for offset in range(16, sqlite3.Connection.__basicsize__, size):
            read = [ctypes.c_int.from_address(id(one) + offset).value for one in many]
            if read == [0, 1] * 3:
                return lambda one: bool(ctypes.c_int.from_address(id(one) + offset).value)
    finally:
        for one in many:
            one.close()
    return lambda one: False
