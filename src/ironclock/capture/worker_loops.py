"""Worker loops: the application's own workers, each on a thread of the rig, that can die and start again."""

from __future__ import annotations

import inspect
import os
import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from contextvars import ContextVar
from typing import TYPE_CHECKING, Any

from ..errors import InputError, RigStateError, StuckError, nearest
from ..foundation.durations import Duration, signed_ns, spell, to_ns
from ..foundation.source_location import innermost, spot, users_part
from ..interpreter.tasks.simulated_threads import SimulatedThread, SimulatedThreads
from ..simulation.jobs import LiveAttempt, LiveJob
from ..simulation.policy import job_name
from ..simulation.pools import Pool
from .idle_polls import IdlePolls, Table
from .observed_jobs import ObservedJobs

if TYPE_CHECKING:
    from ..simulation.policy import JobType
    from ..simulation.simulation import Simulation
    from .job_registry import JobRegistry

MOST_STARTS = 50
"""How often a loop can start at one instant before that is taken for a circle without an end."""

_handled: ContextVar[LiveAttempt | None] = ContextVar("_handled", default=None)
# What the code of a worker loop handles. A task or thread that it starts keeps that, also when it has ended: what it
# does belongs to the attempt in whose context it was started.


class WorkerLoop:
    """One worker of the application's own. The loops of `Rig.run_loop` are such objects.

    Example::

        def work():
            while True:
                time.sleep(5)

        (worker,) = rig.run_loop(work, name="worker")
        rig.advance("1h")
        assert worker.state == "running"
    """

    __slots__ = ("_live",)

    def __init__(self, live: LiveLoop) -> None:
        self._live = live

    @property
    def name(self) -> str:
        """The worker's name in the history, such as ``"worker-1"``."""
        return self._live.name

    @property
    def starts(self) -> int:
        """How often it was started."""
        return self._live.starts

    @property
    def state(self) -> str:
        """``"new"`` (not started yet), ``"running"``, ``"down"`` (it starts again later) or ``"ended"``."""
        return self._live.state

    @property
    def error(self) -> BaseException | None:
        """The error with which it ended the last time. None if it has ended with none."""
        self._live.unseen_error = None
        return self._live.error

    def __repr__(self) -> str:
        return repr(self._live)


_SUPERVISOR_NS = 5_000_000_000  # after so long the supervisor of a search starts a loop again


class LiveLoop:
    """One worker of the application's own, as the rig keeps it."""

    def __init__(
        self, loops: WorkerLoops, type: JobType[..., Any], name: str, args: tuple[Any, ...], pool: Pool,
        restart_ns: int | None, stop: Callable[[], object] | None, skip_polls: bool,
    ) -> None:  # fmt: skip
        self.name = name
        """The worker's name in the history."""
        self._loops = loops
        self._type = type
        self._args = args
        self.pool = pool
        self._restart_ns = restart_ns
        self._stop = stop
        self._skip_polls = skip_polls
        self._job = LiveJob(loops.simulation, type, 0, args, {}, type.queue, 0, loops.simulation.loop.now, 0)
        self._job.name_as(name)
        self.starts = 0
        """How often it was started."""
        self.state = "new"
        """``"new"`` (not started yet), ``"running"``, ``"down"`` (it starts again later) or ``"ended"``."""
        self.error: BaseException | None = None
        """The error with which it ended the last time."""
        self.unseen_error: BaseException | None = None
        """The error with which it has ended for good, if nobody has looked at it."""
        self._own = LiveAttempt(self._job, 0, 0, name, pool)
        self.reader = WorkerLoop(self)
        self._thread: SimulatedThread | None = None
        self.open: list[LiveAttempt] = []
        """The attempts at observed jobs that it has begun and not ended."""
        self._handling: list[LiveAttempt] = []  # what its own thread handles now, outside coroutines
        self._handlers: dict[int, Any] = {}
        self._wakeup_fd = -1  # where its process writes the numbers of signals
        self._asked_to_stop = False
        self._why_down = ""
        self._starts_now: tuple[int, int] = (-1, 0)  # an instant, and how often it has started at it

    # --- its life -----------------------------------------------------------------------------------

    def start(self) -> None:
        """Start it, or start it again."""
        simulation = self._loops.simulation
        self._must_not_go_round(simulation.loop.now)
        self.starts += 1
        self.state = "running"
        self._asked_to_stop = False
        self._handlers.clear()
        self._wakeup_fd = -1
        self._own = LiveAttempt(self._job, self.starts, simulation.loop.now, self.name, self.pool)
        self._own.loop = self
        simulation.history.record("worker-up", detail=(self.name, self.starts))
        made = self._thread = self._loops.threads.start(self._run, (), {}, self.name)
        made.works_for = self.attempt
        if self._skip_polls:
            made.sleeps = self._loops.idle_polls.of(made, self.name)

    def _must_not_go_round(self, now: int) -> None:
        """Raise `StuckError` if it starts again and again at one instant."""
        at, count = self._starts_now
        count = count + 1 if at == now else 1
        self._starts_now = now, count
        if count > MOST_STARTS:
            loop = self._loops.simulation.loop
            raise loop.stop(StuckError(
                f"the worker loop {self.name} has died and started over {MOST_STARTS} times at "
                f"{loop.timeline.text(now)}: {self._why_down}; give run_loop a restart=, the fault a down=, or say at "
                "which visits it strikes"
            ))  # fmt: skip

    def _run(self) -> None:
        error: BaseException | None = None
        self._loops.simulation.loop.forget_values()  # its wall clock can be another one
        threading.current_thread().name = self.name
        try:
            result = self._type.fn(*self._args)
            if inspect.iscoroutine(result):
                import asyncio

                asyncio.run(result)
        except SystemExit as exit:
            error = exit if exit.code else None
        except self._loops.simulation.loop.switcher.exits:
            raise
        except BaseException as raised:
            error = raised
            error.__traceback__ = users_part(error.__traceback__)
        self._ended(error)

    def _ended(self, error: BaseException | None) -> None:
        self.error = error
        why = "it has returned" if error is None else f"{type(error).__name__}: {error}"
        for attempt in list(self.open):
            self._loops.observed.died(attempt, "the end of its worker")
        self._down(why)
        if error is not None and not self._asked_to_stop:
            self._start_later(self._loops.restart_ns(self._restart_ns))
            if self.state == "ended":
                self.unseen_error = error
                self._loops.tell_of_end(self)

    def _down(self, why: str) -> None:
        self.state = "ended"
        self._thread = None
        self._handling.clear()
        self._why_down = why
        self._loops.simulation.loop.forget_values()
        self._loops.simulation.history.record("worker-down", detail=(self.name, why))

    def _start_later(self, after_ns: int | None) -> None:
        if after_ns is not None:
            self.state = "down"
            loop = self._loops.simulation.loop
            loop.schedule_world_event(loop.now + after_ns, self._start_again, self.starts)

    def _start_again(self, starts: int) -> None:
        if self.state == "down" and self.starts == starts:
            self.start()

    def crashed(self, attempt: LiveAttempt, seam: str, down_ns: int) -> None:
        """Die as a process does: no handler runs, and what it had open is taken back."""
        self._die(attempt, seam, f"it died at the seam {seam!r}")
        self._start_later(down_ns if down_ns or self._restart_ns is None else self._restart_ns)

    def _die(self, told: LiveAttempt, seam: str, why: str) -> None:
        simulation, thread = self._loops.simulation, self._thread
        for one in list(self.open):
            self._loops.observed.died(one, seam)
        simulation.attempts.tell_of_death(told)
        if thread is not None:
            thread.end()
            simulation.loop.end_suspended(thread)
            self._loops.threads.states.drop(thread)
        self._down(why)

    # --- stopping -----------------------------------------------------------------------------------

    def ask_to_stop(self) -> None:
        """Ask it to stop: by its own function, or with the signal SIGTERM as a process manager does."""
        if self.state == "down":
            self.state = "ended"
        if self.state != "running" or self._asked_to_stop:
            return
        self._asked_to_stop = True
        for attempt in (self._own, *self.open):
            attempt.asked_to_stop = True
        handler = self._handlers.get(signal.SIGTERM)
        if self._wakeup_fd >= 0 and callable(handler):
            with suppress(OSError):  # as the signal handler of the interpreter does
                os.write(self._wakeup_fd, bytes([signal.SIGTERM]))
        if self._stop is not None:
            self._stop()
        elif callable(handler):
            try:
                handler(signal.SIGTERM, None)
            except BaseException as error:
                if self._thread is not None and self._thread.suspended:
                    loop = self._loops.simulation.loop
                    loop.schedule_world_event(loop.now, self._throw, error)
        elif handler is not signal.SIG_IGN:
            self.kill("SIGTERM has ended it")

    def _throw(self, error: BaseException) -> None:
        thread = self._thread
        if thread is not None and thread.suspended:
            self._loops.simulation.loop.raise_in(thread, error)

    def end_in_words(self) -> str:
        """Return in words how it has ended, with the place of its error."""
        error = self.error
        code, instruction = (None, 0) if error is None else innermost(error)
        place = "" if code is None else f" [{spot(code, instruction)}]"
        return f"the worker {self.name} has ended with {type(error).__name__}: {error}{place}"

    def kill(self, why: str) -> None:
        """End it where it is, as SIGKILL does. Parameters: `why` is written into the history."""
        if self.state == "running":
            self._die(self._own, "kill", why)

    def released(self, attempt: LiveAttempt) -> None:
        """Forget an attempt that has ended."""
        if attempt in self.open:
            self.open.remove(attempt)

    def set_handler(self, number: int, handler: Any) -> Any:
        """Do what `signal.signal` does in its process; return the handler before."""
        before = self._handlers.get(number, signal.SIG_DFL)
        self._handlers[number] = handler
        return before

    def set_wakeup_fd(self, fd: int) -> int:
        """Do what `signal.set_wakeup_fd` does in its process; return the one before."""
        before, self._wakeup_fd = self._wakeup_fd, fd
        return before

    def of_function(self, function: Any, name: str | None) -> bool:
        """Return True if loops of a function, under a name, would have its name."""
        return self._type.name == (name or job_name(function))

    def is_main(self, thread: Any) -> bool:
        """Return True for the thread in which its function runs."""
        return thread is self._thread

    # --- what it works on ---------------------------------------------------------------------------

    def attempt(self) -> LiveAttempt:
        """Return the attempt that its running code belongs to: one at an observed job, or its own.

        What a handler has started belongs to its attempt, also if that is over.
        """
        handled = _handled.get()
        if handled is not None and handled.loop is self:
            return handled
        if self._handling:
            return self._handling[-1]
        if not self.open:
            self._loops.look()
        if len(self.open) == 1:
            return self.open[0]
        return self._own

    def claimed(self) -> LiveAttempt | None:
        """Return the attempt that its rows have shown last, and whose handler was not called yet."""
        self._loops.look()
        handles = self._loops.observed.is_handled
        return next((attempt for attempt in reversed(self.open) if attempt.counts and not handles(attempt)), None)

    def subjects(self, attempt: LiveAttempt) -> tuple[LiveAttempt, ...]:
        """Return whom a fault can be about when code of an attempt passes a seam."""
        return (attempt,) if attempt is self._own else (attempt, self._own)

    def push(self, attempt: LiveAttempt) -> Any:
        """Let the code that runs here, and what it starts, belong to an attempt, until `pop`."""
        task = self._loops.simulation.loop.current
        if isinstance(task, SimulatedThread) and not self.is_main(task):
            return task, task.belong_to(attempt)
        if not _in_coroutine():
            self._handling.append(attempt)
        return _handled.set(attempt)

    def pop(self, attempt: LiveAttempt, token: Any) -> None:
        """End what `push` has begun."""
        if isinstance(token, tuple):
            task, before = token
            task.belong_to(before)
            return
        if attempt in self._handling:
            self._handling.remove(attempt)
        with suppress(ValueError):  # another context, in which nothing was set
            _handled.reset(token)

    def __repr__(self) -> str:
        return f"<worker loop {self.name}: {self.state}, started {self.starts} times>"


def _in_coroutine() -> bool:
    import asyncio

    try:
        return asyncio.current_task() is not None
    except RuntimeError:
        return False


class LoopGroup:
    """The loops that one call of `Rig.run_loop` has started.

    Example::

        workers = rig.run_loop(work, count=3)
        rig.advance("1h")
        workers.stop("30s")
        rig.advance("1m")
        assert [worker.state for worker in workers] == ["ended"] * 3
    """

    def __init__(self, loops: WorkerLoops, members: list[LiveLoop]) -> None:
        self._loops = loops
        self._members = members

    def stop(self, grace: Duration = 0) -> None:
        """Ask the loops to stop, and kill those that still run after a time.

        A loop is asked by its `stop` function. Without one it gets the signal SIGTERM: the handler runs that it has
        set with `signal.signal`. Without a handler the loop dies at once, as a process does.

        Parameters: `grace` is how long they can still run. Default 0. Raises `DurationError`.

        Example::

            workers = rig.run_loop(work, count=2, name="worker")
            workers.stop(grace="30s")
        """
        self._loops.stop(self._members, to_ns(grace, what="grace"))

    def start(self) -> None:
        """Start those again that do not run.

        Example::

            workers = rig.run_loop(work, count=2, name="worker")
            workers.stop()
            rig.advance("1m")
            workers.start()
        """
        for loop in self._members:
            if loop.state in ("ended", "down"):
                loop.start()

    def kill(self, *names: str) -> None:
        """Kill loops where they are: no handler and no `finally` runs. They do not start again.

        Parameters: `names` are names of workers. Default: all. Raises `InputError` for an unknown one.

        Example::

            workers = rig.run_loop(work, count=2, name="worker")
            workers.kill()
        """
        for loop in self._named(names):
            loop.kill("the test has killed it")

    def _named(self, names: tuple[str, ...]) -> list[LiveLoop]:
        known = {loop.name: loop for loop in self._members}
        for name in names:
            if name not in known:
                raise InputError(f"no worker loop is called {name!r}; {nearest(name, known)}")
        return [known[name] for name in names] or self._members

    def __iter__(self) -> Iterator[WorkerLoop]:
        return iter([loop.reader for loop in self._members])

    def __len__(self) -> int:
        return len(self._members)

    def __repr__(self) -> str:
        return f"<worker loops: {', '.join(f'{loop.name} {loop.state}' for loop in self._members)}>"


class WorkerLoops:
    """The worker loops of one rig."""

    def __init__(self, simulation: Simulation, threads: SimulatedThreads, registry: JobRegistry) -> None:
        self.simulation = simulation
        self.threads = threads
        self.observed = ObservedJobs(simulation)
        self._registry = registry
        self._all: list[LiveLoop] = []
        self.tables: list[Table] = []
        """The job tables whose rows the loops claim."""
        self.idle_polls = IdlePolls(self)
        self._waiting: list[LiveLoop] = []  # made before the rig was entered

    def restart_ns(self, asked_ns: int | None) -> int | None:
        """Return after how long a loop starts again that has ended with an error. None: never.

        In a search somebody starts it, as in production: what a fault ends is not to stay away for that reason alone.
        """
        return _SUPERVISOR_NS if asked_ns is None and self.simulation.loop.decisions is not None else asked_ns

    def add(
        self, function: Any, count: int, name: str | None, args: tuple[Any, ...], skew: Duration,
        restart: Duration | None, stop: Callable[[], object] | None, skip_polls: bool, entered: bool, policy: Any,
    ) -> LoopGroup:  # fmt: skip
        """Make loops, and start them if the rig is entered. Raises `InputError` or `RigStateError`."""
        if not callable(function):
            raise InputError(f"the loop is {function!r}, which cannot be called; give a function")
        if isinstance(count, bool) or not isinstance(count, int) or count < 1:
            raise InputError(f"count is {count!r}; give a whole number, at least 1")
        if stop is not None and not callable(stop):
            raise InputError(f"stop is {stop!r}; give a function without parameters")
        if not self.threads.simulates_pools:
            raise RigStateError("a worker loop runs on a simulated thread, and this rig has threads='real'")
        if not isinstance(skip_polls, bool):
            raise InputError(f"skip_polls is {skip_polls!r}; give True or False")
        if any(other.of_function(function, name) for other in self._all):
            raise RigStateError(
                f"there are worker loops of the name {name or job_name(function)!r} already; give another name="
            )
        type = self._registry.register(function, name, policy)
        restart_ns = None if restart is None else to_ns(restart, what="restart")
        pool = Pool(count, [type.name], signed_ns(skew, what="skew"))
        numbers = range(1, count + 1)
        made = [LiveLoop(self, type, f"{type.name}-{n}", args, pool, restart_ns, stop, skip_polls) for n in numbers]
        self._all += made
        if pool.skew_ns:
            self.simulation.workers_have_clocks = True
            self.simulation.decide_tracking()
        if entered:
            self._start(made)
        else:
            self._waiting += made
        return LoopGroup(self, made)

    def enter(self) -> None:
        """Start the loops that were made before the rig was entered."""
        waiting, self._waiting = self._waiting, []
        self._start(waiting)

    @staticmethod
    def _start(loops: list[LiveLoop]) -> None:
        for loop in loops:
            loop.start()

    def stop(self, members: list[LiveLoop] | None, grace_ns: int) -> None:
        """Ask loops to stop; kill those that run after the grace. `members`: None means all."""
        asked = [loop for loop in (self._all if members is None else members) if loop.state in ("running", "down")]
        if not asked:
            return
        simulation = self.simulation
        names = ", ".join(loop.name for loop in asked)
        simulation.history.record("note", detail=f"{names} asked to stop, with a grace of {spell(grace_ns)}")
        for loop in asked:
            loop.ask_to_stop()
        starts = [(loop, loop.starts) for loop in asked]
        simulation.loop.schedule_world_event(simulation.loop.now + grace_ns, self._grace_is_over, starts)

    @staticmethod
    def _grace_is_over(asked: list[tuple[LiveLoop, int]]) -> None:
        for loop, starts in asked:
            if loop.starts == starts:
                loop.kill("its grace is over")

    def start_all(self) -> None:
        """Start every loop again that was stopped."""
        for loop in self._all:
            if loop.state in ("ended", "down") and loop.starts:
                loop.start()

    def dead(self) -> list[str]:
        """Return in words the loops that have ended with an error at which nobody has looked."""
        unseen = (loop for loop in self._all if loop.unseen_error is not None)
        return [f"{loop.end_in_words()}, and nobody looked at it" for loop in unseen]

    def ended(self) -> list[str]:
        """Return in words the loops that have ended with an error."""
        return [loop.end_in_words() for loop in self._all if loop.error is not None and loop.state == "ended"]

    def tell_of_end(self, loop: LiveLoop) -> None:
        """Tell that a loop has ended with an error, and does not start again."""
        self.simulation.host.worker_has_died(loop.end_in_words())

    def running(self) -> LiveLoop | None:
        """Return the loop whose code runs now. None if it is other code."""
        task = self.simulation.loop.current
        owner = None if task is None else task.owner
        return None if owner is None else owner.loop  # type: ignore[return-value]

    def last(self) -> LiveLoop | None:
        """Return the loop whose code runs, or has run last."""
        running = self.running()
        if running is not None:
            return running
        key = self.simulation.loop.thread_in_place
        return next((loop for loop in self._all if loop.is_main(key)), None)

    @property
    def parts(self) -> tuple[object, ...]:
        """Every part that holds something of the rig."""
        return (*self._all, self.observed, self.idle_polls, self)

    def look(self) -> None:
        """Look at the job tables: the running loop can have claimed a row just now."""
        if self.simulation.loop.current is not None:
            for table in self.tables:
                table.look()
