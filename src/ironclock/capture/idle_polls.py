"""Idle polls: a worker loop that polls an empty table is not run again and again, as long as nothing can change.

A poll is idle if it took no simulated time, changed nothing, and nothing has changed since the poll before. After an
idle poll its loop is left asleep, and an event stands for each of its next polls. If something has changed when the
event comes, or a row is due, the loop goes on in its place. If not, the event moves on by one step. While nothing but
such events is pending, all of them move on at once, up to the last one before the next instant at which something can
happen. They keep the order in which the polls would come, so that a run with and a run without them are the same.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

from ..errors import RigStateError
from ..simulation.decisions import ARGUMENT, AT, ORDER
from ..simulation.event_loop import Waiter

if TYPE_CHECKING:
    from ..simulation.task import Task
    from .worker_loops import WorkerLoops


class Table(Protocol):
    """A job table whose rows worker loops claim."""

    changes: int
    version: Any

    def look(self) -> None:
        """Look at the rows."""

    def next_due_ns(self) -> int | None:
        """Return when the next row falls due. None if none waits. -1 if a worker could do something now."""


class _Poller:
    """What is known of one loop that polls."""

    def __init__(self, task: Task, name: str) -> None:
        self.task = task
        self.name = name
        self.seen: Any = None  # the state of the world when it went to sleep the last time
        self.wake_ns = -1
        self.step_ns = -1
        self.skipped = 0
        self.checked = -1  # up to which activity nothing has changed for it


class _Moved(NamedTuple):
    """An event that stands for a poll, and where it moves to."""

    at_ns: int
    from_ns: int
    order: int
    poller: _Poller

    @property
    def place(self) -> tuple[int, int, int, int]:
        """Its place among others: a poll that was planned earlier comes first; of one round, in the order of that."""
        return self.at_ns, self.at_ns - self.poller.step_ns, -self.from_ns, self.order


class IdlePolls:
    """Lets the loops of one rig skip idle polls."""

    def __init__(self, loops: WorkerLoops) -> None:
        self._loops = loops
        self._entries = 0  # how many entries of the history are its own
        self._activity = 0  # grows with every event that is not one of a skipped poll
        self._own_event = False
        self._due: tuple[int, int | None] = -1, None  # of an activity, when the next row is due
        self._watches = False

    def of(self, task: Task, name: str) -> Callable[[int, Callable[[], Any]], bool]:
        """Return the function that a loop asks before it waits."""
        poller = _Poller(task, name)
        if not self._watches:
            self._watches = True
            self._loops.simulation.loop.waiters.append(Waiter(None, self._look))
        return lambda until_ns, ready: self._sleeps(poller, until_ns, ready)

    def _sleeps(self, poller: _Poller, until_ns: int, ready: Callable[[], Any]) -> bool:
        """Sleep in place of a loop, over polls that would find nothing; return False if its poll was not idle."""
        loop = self._loops.simulation.loop
        if not self._loops.tables:
            raise RigStateError(
                "skip_polls is True, and the rig knows no table in which rows fall due; call rig.outbox(..., "
                "runs=False) first, or leave skip_polls out"
            )
        now, step = loop.now, until_ns - loop.now
        seen = self._world()
        idle = step > 0 and seen == poller.seen and now == poller.wake_ns and step == poller.step_ns
        poller.seen, poller.step_ns, poller.wake_ns = seen, step, until_ns
        if not idle or self._next_due() == -1:
            return False
        if loop.fault_hook is not None:
            loop.fault_hook("sleep")
        poller.skipped = 0
        poller.checked = self._activity
        loop.schedule(until_ns, poller.task.priority, self._poll, poller)
        loop.wait(ready, None)
        poller.wake_ns = loop.now
        self._tell(poller, loop.now)
        return True

    def _tell(self, poller: _Poller, until_ns: int) -> None:
        """Write down how many polls were skipped since the last entry."""
        if poller.skipped:
            self._entries += 1
            self._loops.simulation.history.record("polls-skipped", detail=(poller.name, poller.skipped, until_ns))
            poller.skipped = 0

    def _world(self) -> Any:
        """Return what is another value if anything has changed."""
        for table in self._loops.tables:
            table.look()
        return (
            len(self._loops.simulation.history) - self._entries,
            [(table.changes, table.version) for table in self._loops.tables],
        )

    def _next_due(self) -> int | None:
        if self._due[0] != self._activity:
            dues = [due for table in self._loops.tables if (due := table.next_due_ns()) is not None]
            self._due = self._activity, min(dues, default=None)
        return self._due[1]

    def _look(self) -> bool:
        """Note that an event has run, which may have changed something."""
        if not self._own_event:
            self._activity += 1
        self._own_event = False
        return False

    def _poll(self, poller: _Poller) -> None:
        """Stand for a poll: move it on if it would find nothing, or let its loop go on."""
        loop = self._loops.simulation.loop
        if not poller.task.suspended or poller.task.has_ended:
            return  # it has died, or what it waits for has come
        if poller.checked != self._activity and self._world() == poller.seen:
            poller.checked = self._activity
        due = self._next_due()
        if poller.checked != self._activity or (due is not None and due <= loop.now):
            loop.wake_now(poller.task)
            return
        self._own_event = True
        mine = _Moved(loop.now, loop.now, -1, poller)
        until = loop.until_ns + 1 if due is None else min(due, loop.until_ns + 1)
        others = [_Moved(event[AT], event[AT], event[ORDER], event[ARGUMENT]) for event in loop.take_events(self._poll)]
        before = loop.next_event_ns
        if before is not None:
            until = min(until, before)
        moved = [self._moved_on(one, until, one is mine) for one in (mine, *others)]
        for one in sorted(moved, key=lambda one: one.place):
            loop.schedule(one.at_ns, one.poller.task.priority, self._poll, one.poller)
            if one.at_ns - one.from_ns > one.poller.step_ns:
                self._tell(one.poller, one.at_ns)

    @staticmethod
    def _moved_on(one: _Moved, until_ns: int, at_least_once: bool) -> _Moved:
        """Return where an event moves: to its last place before an instant, and the one of now at least by a step."""
        step = one.poller.step_ns
        count = max((until_ns - 1 - one.at_ns) // step, 1 if at_least_once else 0)
        one.poller.skipped += count
        return _Moved(one.at_ns + count * step, one.from_ns, one.order, one.poller)
