"""The event loop: the simulated clock, and the heap of events that are pending on it.

An event is the tuple ``(instant, priority, order of entry, function, argument)``. Its order never depends on a hash
or an address. The loop keeps its state in the object and not in local variables, so that a task switcher can suspend
one run of the loop in the middle of a task that sleeps, and continue with another.
"""

from __future__ import annotations

import datetime as dt
import gc
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from heapq import heappop, heappush, heappushpop
from itertools import chain, count
from typing import Any, Protocol

from ..errors import IronClockError, RigStateError
from ..foundation.instants import Timeline, within_time
from .decisions import ARGUMENT, AT, FUNCTION, Decisions, Event
from .task import DirectCalls, Task, TaskSwitcher

FIRST = -(1 << 62)
"""The priority of events that come before everything else at their instant."""

WORLD = -1_000_000
"""The priority of the world's own events: before everything that jobs do at the same instant."""

LAST = (1 << 62) - 1
"""The priority of events that come after everything else at their instant."""

FULL_RUN, ONE_EVENT, JOBS_CLOSED = range(3)
"""Where a run of the loop stops: at its last instant, after one event, or when no job is open."""

PATIENCE_NS = 366 * 86_400 * 1_000_000_000
"""How much simulated time can pass while the test waits, without a timeout, for something that never happens."""

_COLLECT_AFTER = 20_000  # allocations between two collections of young objects while the loop runs
_NEVER = 1 << 62
_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.timezone.utc)


class Waiter:
    """A task, or the test itself (task None), that waits until `ready()` is true."""

    __slots__ = ("has_end", "over", "ready", "task")

    def __init__(self, task: Task | None, ready: Callable[[], Any], has_end: bool = True) -> None:
        self.task = task
        self.ready = ready
        self.over = False
        self.has_end = has_end
        """False if it waits without a limit."""


class OpenJobs(Protocol):
    """Who counts the open jobs."""

    open_jobs: int


class _NoJobs:
    """There are no jobs."""

    open_jobs = 0


class EventLoop:
    """The simulated clock with its pending events, and the task that runs now.

    The parts of a simulation put events on it with `schedule`. Code that runs in a task lets time pass with `sleep`
    and `wait`. All instants and durations are whole nanoseconds.

    `dispatch` and `prepare` belong to the parts that hand out work: `prepare` is called before each run of the loop,
    `dispatch` while `work_to_dispatch` is true.
    """

    def __init__(self, timeline: Timeline, start_ns: int, switcher: TaskSwitcher | None = None) -> None:
        # The clock.
        self.timeline = timeline
        self.start_ns = start_ns
        self.now = start_ns
        self.requests = 0
        """How many requests code of the rig has sent to something outside that can have changed it."""
        self.values_of_instant: list[list[Any]] = []
        """Lists of values that are right for this instant only. All are emptied when the clock moves."""
        self.several_wall_clocks = False
        """True if tasks see different wall clocks."""

        # What is pending.
        self.heap: list[Event] = []
        """Its first event is the next one of all."""
        self._in_order: deque[Event] = deque()
        # Events that came in order of time. The first of them goes onto the heap when it is the next one of all: so
        # the heap stays small, however many jobs a test enqueues up front.
        self.next_order = count(1).__next__
        """Gives the number of the next entry into the heap."""
        self.waiters: list[Waiter] = []
        """Each is asked after every event."""
        self.work_to_dispatch = False
        """True if a ready job may have met a free worker."""

        # Who runs.
        self.switcher: TaskSwitcher = DirectCalls() if switcher is None else switcher
        self.current: Task | None = None
        """The attempt or simulated thread whose code runs now. None for the test's own code."""
        self.running = False
        self.thread_in_place: Any = None
        """The key of the task whose thread-local values are in place. None: the test's."""

        # What others plug in.
        self.enter_thread: Callable[[Task | None], None] | None = None
        """Called before code of a worker runs if that of another one ran before. None: workers share their values."""
        self.dispatch: Callable[[], None] = self._nothing_to_dispatch
        self.prepare: Callable[[], None] = _nothing
        self.lives: OpenJobs = _NoJobs()
        """Who counts the open jobs."""
        self.decisions: Decisions | None = None
        """Who decides where the run can go another way. None: the ordinary way."""
        self.chooses_order: Decisions | None = None
        """The same, if it also chooses which event of an instant comes first."""
        self.before_time_moves: Callable[[int | None], bool] | None = None
        """Asked before the clock moves, while a task waits for something real. None if no task does.

        It gets the next instant, or None if nothing but something real can end the run. It returns True if a waiter can
        go on at the present instant.
        """
        self.is_idle: dict[Callable[[Any], None], Callable[[Any], bool]] = {}
        """By the function of an event, what tells by its argument that the event will do nothing any more."""
        self.fault_hook: Callable[..., None] | None = None
        """Called at every seam that a task passes. None if no fault can strike inside a task."""
        self.unseen_tasks: set[Task] = set()
        """Tasks in which a call of the rig itself runs now: no fault strikes what it does."""

        self.collect_after = _COLLECT_AFTER
        """How many objects are made between two collections of young objects while the loop runs."""
        self._until = start_ns
        self._stop_at = FULL_RUN
        self._has_no_end = False  # True while the test waits, without a limit, for what simulated or real events do
        self._moment: tuple[int, dt.datetime] = start_ns - 1, _EPOCH

    def begin_at(self, start_ns: int) -> None:
        """Move the start of a simulation in which nothing has happened yet."""
        self.start_ns = self.now = self._until = start_ns

    @property
    def moment(self) -> dt.datetime:
        """The present instant in the simulation's time zone."""
        if self._moment[0] != self.now:
            self._moment = self.now, self.timeline.at(self.now)
        return self._moment[1]

    @property
    def next_due_ns(self) -> int | None:
        """The instant of the next event. None if no event is pending."""
        heap = self.heap
        while heap:
            event = heap[0]
            idle = self.is_idle.get(event[FUNCTION])
            if idle is not None and idle(event[ARGUMENT]):
                self._pop()
                continue
            return max(event[AT], self.now)
        return None

    def schedule(self, at_ns: int, priority: int, function: Callable[[Any], None], argument: Any) -> None:
        """Put an event on the heap: ``function(argument)`` is called at an instant."""
        heappush(self.heap, (at_ns, priority, self.next_order(), function, argument))

    def schedule_in_order(self, at_ns: int, priority: int, function: Callable[[Any], None], argument: Any) -> None:
        """Do what `schedule` does, at less cost if every event comes after the one before."""
        event = (at_ns, priority, self.next_order(), function, argument)
        in_order, heap = self._in_order, self.heap
        if (in_order and in_order[-1] < event) or (not in_order and heap and heap[0] < event):
            in_order.append(event)
        else:
            heappush(heap, event)

    def _pop(self) -> Event:
        """Remove and return the next event of all."""
        heap, in_order = self.heap, self._in_order
        event = heappop(heap)
        if in_order and (not heap or in_order[0] < heap[0]):
            heappush(heap, in_order.popleft())
        return event

    def schedule_world_event(self, at_ns: int, function: Callable[[Any], None], argument: Any) -> None:
        """Put an event of the world itself on the heap. It comes before what jobs do at its instant."""
        self.schedule(max(at_ns, self.now), WORLD, function, argument)

    @contextmanager
    def unseen(self) -> Iterator[None]:
        """Let what the running task does in the block be the rig's own work."""
        task = self.current
        if task is None or task in self.unseen_tasks:
            yield
            return
        self.unseen_tasks.add(task)
        try:
            yield
        finally:
            self.unseen_tasks.discard(task)

    # --- moving the clock ---------------------------------------------------------------------------

    def run_until(self, until_ns: int, stop_at: int = FULL_RUN) -> None:
        """Run every event up to and including `until_ns`; less if `stop_at` says so."""
        if self.running:
            who = f"{self.current} is running" if self.current else "its loop is running"
            raise RigStateError(f"the rig's clock cannot be moved from inside a job or a callback ({who})")
        within_time(until_ns, "the instant to advance to")
        self.prepare()
        self.running = True
        self._until = until_ns
        self._stop_at = stop_at
        # A long run keeps nearly everything that it allocates, so that frequent collections would find nothing.
        thresholds = gc.get_threshold()
        if 0 < thresholds[0] < self.collect_after:
            gc.set_threshold(self.collect_after, *thresholds[1:])
        try:
            self.switcher.run(self._loop)
        finally:
            gc.set_threshold(*thresholds)
            self.running = False
            self.current = None

    def advance_to(self, until_ns: int) -> None:
        """Run everything due up to and including an instant, and move the clock there."""
        heap = self.heap
        within_time(until_ns, "the instant to advance to")
        nothing_happens = not (
            self.running or self.work_to_dispatch or self.waiters or (heap and heap[0][AT] <= until_ns)
        )
        if not nothing_happens:
            self.run_until(until_ns)
        self.now = max(self.now, until_ns)
        self.forget_values()

    def forget_values(self) -> None:
        """Empty every list of values of this instant."""
        for values in self.values_of_instant:
            values.clear()
        self.values_of_instant.clear()

    def _nothing_to_dispatch(self) -> None:
        self.work_to_dispatch = False

    def _loop(self) -> None:
        heap, in_order = self.heap, self._in_order
        # A suspended task leaves its event unfinished, and a new run of this function continues here.
        if self.waiters and self._wake_ready():
            return
        while True:
            if self.work_to_dispatch:
                self.dispatch()
                if self.waiters and self._wake_ready():
                    return
                continue
            if self._stop_at == JOBS_CLOSED and not self.lives.open_jobs:
                return
            if not heap or heap[0][AT] > self._until:
                if self.before_time_moves is not None and self.before_time_moves(
                    None if self._has_no_end and not heap else self._until
                ):
                    if self._wake_ready():
                        return
                    continue
                return
            if self.before_time_moves is not None and heap[0][AT] > self.now and self.before_time_moves(heap[0][AT]):
                if self._wake_ready():
                    return
                continue
            event = heappop(heap)
            if in_order and (not heap or in_order[0] < heap[0]):
                heappush(heap, in_order.popleft())  # as `_pop` does
            if self.chooses_order is not None and heap and heap[0][AT] <= event[AT]:
                event = self._choose(event, self.chooses_order)
            at, _, _, function, argument = event
            # An event can be late: time that the test itself spends can go past it.
            if at > self.now:
                self.now = at
                if self.values_of_instant:
                    self.forget_values()
            function(argument)
            if self.waiters and self._wake_ready():
                return
            if self._stop_at == ONE_EVENT:
                self._until = self.start_ns - 1

    def _choose(self, first: Event, decisions: Decisions) -> Event:
        """Let the decisions choose one of several events of an instant."""
        heap, events = self.heap, [first]
        while heap and heap[0][AT] <= first[AT]:
            events.append(self._pop())
        chosen = events.pop(decisions.chooses(events))
        for event in events:
            heappush(heap, event)
        return chosen

    # --- what is due now ----------------------------------------------------------------------------

    def due_events(self) -> list[Event]:
        """Return the events that are due at this instant, in no particular order."""
        return [event for event in chain(self.heap, self._in_order) if event[AT] <= self.now]

    def ask_waiters(self) -> bool:
        """Ask the waiters; return True if one could go on now. One that looks at a job table can bring jobs in."""
        return any(not waiter.over and waiter.ready() for waiter in self.waiters)

    @property
    def busy_now(self) -> bool:
        """True if a worker could start a job now, or a waiter could go on."""
        return self.work_to_dispatch or self.ask_waiters()

    @property
    def others_due(self) -> bool:
        """True if something other than the running task could run at this instant."""
        return bool(self.heap and self.heap[0][AT] <= self.now) or self.busy_now

    def give_way(self) -> None:
        """Let everything else that is due at this instant run before the running task."""
        task = self.current
        assert task is not None
        task.wake_ns = self.now
        self.schedule(self.now, LAST, self._wake, task)
        self._suspend(task)

    # --- tasks that let time pass -------------------------------------------------------------------

    def sleep(self, ns: int, *, is_seam: bool = True) -> None:
        """Let time pass inside the running task, as `time.sleep` does. It is a seam, unless somebody has passed that.

        Raises the task's timeout at its deadline if that comes first, and `RigStateError` if no task is running.
        """
        task = self.current
        if task is None:
            raise RigStateError("no task is running that could sleep; in the test itself, advance the rig")
        if self.fault_hook is not None and is_seam:
            self.fault_hook("sleep")
        wake = self.now + ns
        deadline = task.deadline_ns
        if 0 <= deadline < wake:
            wake = max(deadline, self.now)
            self.schedule(wake, task.priority, self._interrupt, task)
        else:
            heap = self.heap
            if wake <= self._until and not (
                self.work_to_dispatch or self.waiters or self._stop_at == ONE_EVENT or (heap and heap[0][AT] <= wake)
            ):
                # Nothing else happens until then, so that no switch is needed.
                self.now = wake
                if self.values_of_instant:
                    self.forget_values()
                return
            task.wake_ns = wake
            if heap and not (self.work_to_dispatch or self.waiters or self.chooses_order or self._stop_at == ONE_EVENT):
                event = heappushpop(heap, (wake, task.priority, self.next_order(), self._wake, task))
                if self._wakes_another(event):
                    # The next event wakes a task: its code runs next, without a turn of the loop.
                    self._suspend(task, event[ARGUMENT])
                    return
                heappush(heap, event)
            else:
                self.schedule(wake, task.priority, self._wake, task)
        self._suspend(task)

    def _wakes_another(self, event: Event) -> bool:
        """Move the clock to an event that was taken from the heap, if it wakes a suspended task; return True then."""
        at, other = event[AT], event[ARGUMENT]
        if at > self._until or event[FUNCTION] != self._wake or not other.suspended or at < other.wake_ns:
            return False
        heap, in_order = self.heap, self._in_order
        if in_order and (not heap or in_order[0] < heap[0]):
            heappush(heap, in_order.popleft())  # as `_pop` does
        if at > self.now:
            self.now = at
            if self.values_of_instant:
                self.forget_values()
        return True

    def pass_idle_time(self, until_ns: int) -> bool:
        """Move the clock to an instant if nothing else happens until then, itself included. Return True if it moved."""
        heap = self.heap
        if (
            self.work_to_dispatch or self.waiters or (heap and heap[0][AT] <= until_ns)
            or (self.running and (self.current is None or until_ns > self._until or self._stop_at == ONE_EVENT))
        ):  # fmt: skip
            return False
        self.now = until_ns
        if self.values_of_instant:
            self.forget_values()
        return True

    def wait(self, ready: Callable[[], Any], until_ns: int | None = None) -> bool:
        """Wait until `ready()` is true, at most until an instant; return the last answer of `ready()`.

        If a task waits, the others continue. If the test's own code waits, the loop runs.
        """
        if ready():
            return True
        if self.current is None:
            return self._wait_in_test(ready, until_ns)
        task = self.current
        deadline = task.deadline_ns
        waiter = Waiter(task, ready, until_ns is not None or deadline >= 0)
        if deadline >= 0 and (until_ns is None or deadline < until_ns):
            self.schedule(max(deadline, self.now), task.priority, self._interrupt_waiter, waiter)
        elif until_ns is not None:
            self.schedule(max(until_ns, self.now), task.priority, self._end_wait, waiter)
        self.waiters.append(waiter)
        task.wake_ns = _NEVER
        try:
            self._suspend(task)
        finally:
            waiter.over = True
            if waiter in self.waiters:
                self.waiters.remove(waiter)
        return bool(ready())

    def _wait_in_test(self, ready: Callable[[], Any], until_ns: int | None) -> bool:
        if self.running:
            raise RigStateError(
                "a callback of the rig (a fault's predicate, a wait) cannot wait; it must answer at once"
            )
        waiter = Waiter(None, ready)
        self.waiters.append(waiter)
        self._has_no_end = until_ns is None
        try:
            self.run_until(self.now + PATIENCE_NS if until_ns is None else max(until_ns, self.now))
        finally:
            self._has_no_end = False
            waiter.over = True
            self.waiters.remove(waiter)
        if ready():
            return True
        if until_ns is not None:
            self.now = max(self.now, until_ns)
            self.forget_values()
        return False

    def _wake_ready(self) -> bool:
        """Wake the waiters that are ready; return True if the test itself is one of them."""
        for waiter in self.waiters:
            if not waiter.over and waiter.ready():
                if waiter.task is None:
                    return True
                waiter.over = True
                waiter.task.wake_ns = self.now
                self.schedule(self.now, waiter.task.priority, self._wake, waiter.task)
        return False

    @property
    def next_event_ns(self) -> int | None:
        """The instant of the next pending event. None if nothing is pending."""
        return self.heap[0][AT] if self.heap else None

    @property
    def until_ns(self) -> int:
        """Up to which instant the present run goes."""
        return self._until

    def events(self) -> Iterator[Event]:
        """Yield every pending event, in no particular order."""
        return chain(self.heap, self._in_order)

    def take_events(self, function: Callable[[Any], None]) -> list[Event]:
        """Remove and return the pending events that call a function, in the order in which they would come."""
        everything = sorted(self.events())
        self.heap[:] = [event for event in everything if event[FUNCTION] != function]  # sorted: a heap
        self._in_order.clear()
        return [event for event in everything if event[FUNCTION] == function]

    def raise_in_test(self, error: BaseException) -> None:
        """Raise an error in the test's own code. The running task waits where it is, and goes on in the next run."""
        self.schedule(self.now, FIRST, self._raise, (error, self.work_to_dispatch))
        self.work_to_dispatch = False  # the error comes before everything else
        self.give_way()

    def _raise(self, error: tuple[BaseException, bool]) -> None:
        self.work_to_dispatch |= error[1]
        raise error[0]

    def wake_now(self, task: Task) -> None:
        """Let a task go on that waits without a limit. Called as the last act of an event."""
        for waiter in self.waiters:
            if waiter.task is task and not waiter.over:
                self._end_wait(waiter)
                return

    def _end_wait(self, waiter: Waiter) -> None:
        if not waiter.over and waiter.task is not None:
            waiter.over = True
            if waiter.task.suspended:
                self.switcher.resume(waiter.task)

    def _interrupt_waiter(self, waiter: Waiter) -> None:
        if not waiter.over and waiter.task is not None:
            waiter.over = True
            self._interrupt(waiter.task)

    def end_suspended(self, task: Task) -> None:
        """End a task where it waits, without its handlers. Nothing wakes it any more, whatever it waits for."""
        if task.suspended:
            task.suspended = False
            for waiter in self.waiters:
                if waiter.task is task:
                    waiter.over = True
            self.waiters[:] = [waiter for waiter in self.waiters if waiter.task is not task]
            self.switcher.end_suspended(task)

    def _suspend(self, task: Task, then: Task | None = None) -> None:
        self.current = None
        task.suspended = True
        if self.several_wall_clocks:
            self.forget_values()
        try:
            self.switcher.suspend(task, then)
        finally:
            task.suspended = False
            self.current = task
            if self.several_wall_clocks:
                self.forget_values()
        if task.error_to_raise is not None:
            error, task.error_to_raise = task.error_to_raise, None
            raise error

    def _wake(self, task: Task) -> None:
        # It may have been ended, or interrupted in its sleep, since the call was made.
        if task.suspended and self.now >= task.wake_ns:
            self.switcher.resume(task)

    def _interrupt(self, task: Task) -> None:
        if task.suspended and task.deadline_ns >= 0:
            self.raise_in(task, task.time_out())

    def raise_in(self, task: Task, error: BaseException) -> None:
        """Interrupt a suspended task: with an error, or in the way that the task asks for."""
        if task.interrupt is not None:
            task.interrupt()
            self.switcher.resume(task)
        else:
            self.switcher.throw(task, error)

    def stop(self, error: IronClockError) -> IronClockError:
        """End the whole run with an error that no `except` in a job can catch. Return it if no task is running."""
        if self.current is not None:
            self.switcher.abort(error)
        return error

    # --- simulated threads --------------------------------------------------------------------------

    def start_task(self, task: Task) -> None:
        """Start a task that is not an attempt, at this instant and before everything else that is due."""
        self.schedule(self.now, FIRST, self._begin, task)

    def _begin(self, task: Task) -> None:
        self.current = task
        try:
            task.run()
        finally:
            self.current = None


def _nothing() -> None:
    return
