"""The clockwork: one ordered heap of pending events, moved along in integer nanoseconds.

An event is ``(instant, priority, order of entry, function, argument)``; nothing that depends on hash or
identity ever decides an order. The loop keeps all its state here, so that a host may leave one loop
suspended in the middle of a task that sleeps and go on with another.
"""

from __future__ import annotations

import datetime as dt
import gc
import random
from collections.abc import Callable
from heapq import heappop, heappush
from typing import Any

from .carrier import Carrier, Inline
from .errors import IronClockError, RigStateError
from .pilot import Event, Pilot
from .task import Task
from .timeline import Timeline

YOUNG = 20_000
"""Allocations between two collections of the youngest objects while the loop runs."""

FIRST = -(1 << 62)
"""The priority of what goes before everything else at its instant."""

WORLD = -1_000_000
"""The priority of the world's own events: before anything that a job does at their instant."""

LAST = (1 << 62) - 1
"""The priority of what lets everything else at its instant go first."""

PATIENCE_NS = 366 * 86_400 * 1_000_000_000
"""How much simulated time may pass under a test that waits, without a timeout, for what never comes."""

_NEVER = 1 << 62
_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.timezone.utc)


class Watch:
    """A task (or, without one, the test itself) that stands still until something is true."""

    __slots__ = ("over", "ready", "task")

    def __init__(self, task: Task | None, ready: Callable[[], Any]) -> None:
        self.task = task
        self.ready = ready
        self.over = False


class Clockwork:
    """The simulated clock with what is pending on it."""

    def __init__(self, timeline: Timeline, start_ns: int, seed: object = 0) -> None:
        self.timeline = timeline
        self.start_ns = start_ns
        self.now = start_ns
        self.seed = seed
        self.carrier: Carrier = Inline()
        self.current: Task | None = None
        """The attempt, or simulated thread, whose code runs at this moment."""
        self.running = False
        self.open = 0
        """Jobs that still have something before them."""
        self.present: list[list[Any]] = []
        """Stocks of the present instant that were handed out; all are emptied when the clock moves."""
        self.watches: list[Watch] = []
        """Those that wait for something to become true; each is asked after every event."""
        self.pilot: Pilot | None = None
        """Who decides where the run could go another way; without one it takes the ordinary course."""
        self.chooser: Pilot | None = None
        """The pilot, where it also decides what comes first at one instant."""
        self.passing: Callable[..., None] | None = None
        """Told of every seam that a task passes, where something wants to know."""
        self.skewed = False
        """Whether some tasks see another wall clock than others."""
        self._heap: list[Event] = []
        self._moment: tuple[int, dt.datetime] = start_ns - 1, _EPOCH
        self._order = 0
        self._until = start_ns
        self._halt = 0  # 1: after one event; 2: when no job is open
        self._uneven = False  # a job is ready and a worker is free
        self._generators: dict[str, random.Random] = {}

    def begin_at(self, start_ns: int) -> None:
        """Move the start of a world in which nothing has happened yet."""
        self.start_ns = self.now = self._until = start_ns

    @property
    def moment(self) -> dt.datetime:
        """The present instant in the world's zone, made once for all who ask at the same one."""
        if self._moment[0] != self.now:
            self._moment = self.now, self.timeline.at(self.now)
        return self._moment[1]

    def generator(self, purpose: str) -> random.Random:
        """Return the seeded generator for one purpose; purposes do not disturb one another."""
        found = self._generators.get(purpose)
        if found is None:
            found = self._generators[purpose] = random.Random(f"{self.seed}:{purpose}")
        return found

    def schedule(self, at_ns: int, priority: int, function: Callable[[Any], None], argument: Any) -> None:
        """Put an event on the heap."""
        self._order += 1
        heappush(self._heap, (at_ns, priority, self._order, function, argument))

    # --- moving the clock ---------------------------------------------------------------------------

    def run_until(self, until_ns: int, halt: int = 0) -> None:
        """Run every event up to and including `until_ns`; with `halt` 1 just one, with 2 until no job is open."""
        if self.running:
            who = f"{self.current} is running" if self.current else "its loop is running"
            raise RigStateError(f"the rig's clock cannot be moved from inside a job or a callback ({who})")
        self._prepare()
        self.running = True
        self._until = until_ns
        self._halt = halt
        # Nearly all that a long run allocates is kept, so that frequent collections find nothing.
        thresholds = gc.get_threshold()
        if 0 < thresholds[0] < YOUNG:
            gc.set_threshold(YOUNG, *thresholds[1:])
        try:
            self.carrier.run(self._loop)
        finally:
            gc.set_threshold(*thresholds)
            self.running = False
            self.current = None

    def advance_to(self, until_ns: int) -> None:
        """Run what is due up to and including an instant, and stand there."""
        heap = self._heap
        if not (self.running or self._uneven or self.watches or (heap and heap[0][0] <= until_ns)):
            self.now = max(self.now, until_ns)  # nothing happens until then
            if self.present:
                self.forget_present()
            return
        self.run_until(until_ns)
        self.now = max(self.now, until_ns)
        self.forget_present()

    @property
    def uneven_now(self) -> bool:
        """Whether there is something to do at this very instant."""
        return self._uneven or any(not watch.over and watch.ready() for watch in self.watches)

    def forget_present(self) -> None:
        """Empty every stock of the present instant."""
        for stock in self.present:
            stock.clear()
        self.present.clear()

    def _prepare(self) -> None:
        """Do what has to be done before the loop runs."""

    def _dispatch(self) -> None:
        """Even out one unevenness."""
        self._uneven = False

    def _loop(self) -> None:
        heap = self._heap
        # A task that stands still leaves its event unfinished, and a new loop goes on here.
        if self.watches and self._look():
            return
        while True:
            if self._uneven:
                self._dispatch()
                if self.watches and self._look():
                    return
                continue
            if (self._halt == 2 and not self.open) or not heap or heap[0][0] > self._until:
                return
            event = heappop(heap)
            if self.chooser is not None and heap and heap[0][0] <= event[0]:
                event = self._choose(event, self.chooser)
            # An event may be late: time spent by the test itself can pass it by.
            if event[0] > self.now:
                self.now = event[0]
                if self.present:
                    self.forget_present()
            event[3](event[4])
            if self.watches and self._look():
                return
            if self._halt == 1:
                self._until = self.start_ns - 1

    def _choose(self, first: Event, pilot: Pilot) -> Event:
        """Let the pilot choose among events at one instant."""
        heap, events = self._heap, [first]
        while heap and heap[0][0] <= first[0]:
            events.append(heappop(heap))
        chosen = events.pop(pilot.chooses(events))
        for event in events:
            heappush(heap, event)
        return chosen

    def due_events(self) -> list[Event]:
        """Return what is due at this instant, in no particular order."""
        return [event for event in self._heap if event[0] <= self.now]

    @property
    def others_due(self) -> bool:
        """Whether something else than the running task could run at this instant."""
        heap = self._heap
        return (
            self._uneven
            or bool(heap and heap[0][0] <= self.now)
            or any(not watch.over and watch.ready() for watch in self.watches)
        )

    def give_way(self) -> None:
        """Let whatever else is due at this instant go before the running task."""
        task = self.current
        assert task is not None
        task.wake_ns = self.now
        self.schedule(self.now, LAST, self._wake, task)
        self._park(task)

    # --- tasks that let time pass -------------------------------------------------------------------

    def sleep(self, ns: int) -> None:
        """Let time pass inside the running task; the host calls this for `time.sleep` and its like.

        Raises `AttemptTimeout` at the attempt's deadline where that comes first.
        """
        task = self.current
        if task is None:
            raise RigStateError("nothing is running that could sleep")
        if self.passing is not None:
            self.passing("sleep")
        wake = self.now + ns
        deadline = task.deadline_ns
        if 0 <= deadline < wake:
            wake = max(deadline, self.now)
            self.schedule(wake, task.priority, self._interrupt, task)
        else:
            heap = self._heap
            if wake <= self._until and not (
                self._uneven or self.watches or self._halt == 1 or (heap and heap[0][0] <= wake)
            ):
                # Nothing at all happens meanwhile: nobody needs the turn.
                self.now = wake
                if self.present:
                    self.forget_present()
                return
            task.wake_ns = wake
            self.schedule(wake, task.priority, self._wake, task)
        self._park(task)

    def wait(self, ready: Callable[[], Any], until_ns: int | None = None) -> bool:
        """Stand still until `ready()` is true, at most until an instant; return whether it is.

        Inside a task the others go on meanwhile. In the test's own code the loop runs until then.
        """
        if ready():
            return True
        if self.current is None:
            return self._wait_outside(ready, until_ns)
        task = self.current
        watch = Watch(task, ready)
        deadline = task.deadline_ns
        if deadline >= 0 and (until_ns is None or deadline < until_ns):
            self.schedule(max(deadline, self.now), task.priority, self._interrupt_watch, watch)
        elif until_ns is not None:
            self.schedule(max(until_ns, self.now), task.priority, self._give_up, watch)
        self.watches.append(watch)
        task.wake_ns = _NEVER
        try:
            self._park(task)
        finally:
            watch.over = True
            if watch in self.watches:
                self.watches.remove(watch)
        return bool(ready())

    def _wait_outside(self, ready: Callable[[], Any], until_ns: int | None) -> bool:
        if self.running:
            raise RigStateError("a callback of the rig (a fault's predicate, a wait) may not wait")
        watch = Watch(None, ready)
        self.watches.append(watch)
        try:
            self.run_until(self.now + PATIENCE_NS if until_ns is None else max(until_ns, self.now))
        finally:
            watch.over = True
            self.watches.remove(watch)
        if ready():
            return True
        if until_ns is not None:
            self.now = max(self.now, until_ns)
            self.forget_present()
        return False

    def _look(self) -> bool:
        """Wake those whose wish has come true; return whether the test itself is one of them."""
        for watch in self.watches:
            if not watch.over and watch.ready():
                if watch.task is None:
                    return True
                watch.over = True
                watch.task.wake_ns = self.now
                self.schedule(self.now, watch.task.priority, self._wake, watch.task)
        return False

    def _give_up(self, watch: Watch) -> None:
        if not watch.over:
            watch.over = True
            self.carrier.resume(watch.task)  # type: ignore[arg-type]

    def _interrupt_watch(self, watch: Watch) -> None:
        if not watch.over and watch.task is not None:
            watch.over = True
            self._interrupt(watch.task)

    def _park(self, task: Task) -> None:
        self.current = None
        task.parked = True
        if self.skewed:
            self.forget_present()
        try:
            self.carrier.park(task)
        finally:
            task.parked = False
            self.current = task
            if self.skewed:
                self.forget_present()

    def _wake(self, task: Task) -> None:
        if task.parked and self.now >= task.wake_ns:  # it may have been killed, or thrown out of its sleep, meanwhile
            self.carrier.resume(task)

    def _interrupt(self, task: Task) -> None:
        if task.parked and task.deadline_ns >= 0:
            self.raise_in(task, task.late())

    def raise_in(self, task: Task, error: BaseException) -> None:
        """Interrupt a task that stands still: with an error, or in the way that it asks for."""
        if task.interrupt is not None:
            task.interrupt()
            self.carrier.resume(task)
        else:
            self.carrier.throw(task, error)

    def stop(self, error: IronClockError) -> IronClockError:
        """End the whole run with an error that no `except` in a job can swallow; return it where none is running."""
        if self.current is not None:
            self.carrier.abort(error)
        return error

    # --- simulated threads --------------------------------------------------------------------------

    def start(self, task: Task) -> None:
        """Let a task that is no attempt begin at this instant, before anything else that is due."""
        self.schedule(self.now, FIRST, self._begin, task)

    def _begin(self, task: Task) -> None:
        self.current = task
        try:
            task.run()
        finally:
            self.current = None
