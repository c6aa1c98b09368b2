"""The border of one rig: its waits for the outside, and what is known of what its code uses there."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..databases.redirects import Redirects
from ..tasks.executors import Executors
from .call_seams import CallSeams
from .database_uses import DatabaseUses
from .descriptors import Descriptors
from .file_times import FileTimes
from .helper_threads import HelperThreads
from .outside_waits import OutsideWaits
from .processes import ChildPolls
from .server_timers import ServerTimers

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ...simulation.task import Task
    from ..databases.contents import Contents
    from ..databases.database_clocks import DatabaseClocks
    from ..databases.mariadb_waits import MariaDBWaits
    from ..tasks.simulated_threads import SimulatedThreads
    from .postgres import ServerSessions


class Border:
    """The parts of the border of one rig.

    Parameters: `wall_ns` returns the simulated time. `stuck_after_s` is how many real seconds a run can wait outside.
    `started` is called before one more real thread starts. `reads_real_clock` is called with a statement that reads the
    real clock of a database, and the remedy. `seams` are the kinds of real calls that are seams.
    """

    def __init__(
        self, loop: EventLoop, wall_ns: Callable[[], int], stuck_after_s: float, started: Callable[[], None],
        reads_real_clock: Callable[[str, str], None], threads: SimulatedThreads, seams: frozenset[str],
    ) -> None:  # fmt: skip
        self.call_seams: CallSeams | None = None
        self.switch_on(loop, seams)
        self.pid = os.getpid()
        self.worker_exits: Callable[[Task, str], None] = _no_worker
        """Lets the worker of a task die whose code has called for that, in words. It does not return."""
        self.outside = OutsideWaits(loop, stuck_after_s)
        self.redirects = Redirects()
        self.server_timers = ServerTimers(loop, self.outside, self.redirects)
        self.descriptors = Descriptors(self.outside, loop, self.server_timers)
        self.child_polls = ChildPolls(loop, self.outside)
        self.file_times = FileTimes(wall_ns)
        self.database_uses = DatabaseUses(loop)
        self._started = started
        self._database_sessions: ServerSessions | None = None
        self._mariadb_waits: MariaDBWaits | None = None
        self._database_clocks: DatabaseClocks | None = None
        self._for_clocks = loop, reads_real_clock, started, self.redirects, threads, self.descriptors
        self.sqlite_owners: dict[int, Any] = {}
        """By identity of a connection of SQLite, the key of the thread that has opened it."""
        self.sqlite_files: dict[str, None] = {}
        """The names of the files of SQLite that were opened."""
        self.sqlite_errors: dict[Any, BaseException] = {}
        """By key of a thread, the error that is raised when the library returns."""
        self.executors = Executors()
        self.helpers = HelperThreads(started)
        self.own_key: Any = None
        """The key of an asyncio loop's own pipe in its selector, as last seen."""
        self.spun_ns, self.spins = -1, 0
        """The instant at which an asyncio loop runs without waiting, and how often it has done so."""

    # Most rigs use none of these, and to import them takes long. (`cached_property` has a lock, which a task of the rig
    # would be seen to take.)

    @property
    def database_clocks(self) -> DatabaseClocks:
        """The clocks of the database servers."""
        if self._database_clocks is None:
            from ..databases.database_clocks import DatabaseClocks

            self._database_clocks = DatabaseClocks(*self._for_clocks)
        return self._database_clocks

    @property
    def database_sessions(self) -> ServerSessions:
        """The sessions of this process with PostgreSQL."""
        if self._database_sessions is None:
            from .postgres import ServerSessions

            self._database_sessions = ServerSessions(self._started)
        return self._database_sessions

    @property
    def mariadb_waits(self) -> MariaDBWaits:
        """What sessions of MariaDB and MySQL wait for."""
        if self._mariadb_waits is None:
            from ..databases.mariadb_waits import MariaDBWaits

            self._mariadb_waits = MariaDBWaits(self._started, self.database_clocks.waits_for_real)
        return self._mariadb_waits

    def contents(self) -> Contents:
        """Return what is in the databases that the rig knows: those whose clock follows, and files of SQLite.

        Raises `OSError` if one cannot be read now.
        """
        try:
            found = {} if self._database_clocks is None else self._database_clocks.contents()
            files = [name for name in self.sqlite_files if os.path.isfile(name)]
            if files:
                from ..databases.contents import File

                helper = self.helpers.take()
                try:
                    for name in files:
                        helper.begin(File(name).read)  # on a thread of its own, where nothing is replaced
                        read = helper.end()
                        found.update({f"{place} of {os.path.basename(name)}": items for place, items in read.items()})
                finally:
                    self.helpers.put_back(helper)
            return found
        except Exception as error:
            raise OSError(f"a database cannot be read: {error}") from error

    def give_connections_back(self) -> None:
        """Let connections that lead to proxies lead to their servers again."""
        if self._database_clocks is not None:
            self._database_clocks.give_connections_back()

    def switch_on(self, loop: EventLoop, seams: frozenset[str]) -> None:
        """Let the real calls of some kinds be seams."""
        self.call_seams = CallSeams(loop, seams) if seams else None

    def leave(self) -> None:
        """Give back what the rig has of the system: it is left."""
        self.executors.leave()
        if self._database_clocks is not None:
            self._database_clocks.leave()
        for used in (self._database_sessions, self._mariadb_waits):
            if used is not None:
                used.close()
        self.server_timers.close()
        self.helpers.close()


def _no_worker(task: Task, why: str) -> None:
    raise AssertionError(f"no worker can die: {why}")
