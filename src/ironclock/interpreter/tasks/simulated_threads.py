"""Simulated threads: code that starts threads runs as tasks of the rig, in simulated time.

A thread that a job starts, a `threading.Timer` and the workers of a `ThreadPoolExecutor` become tasks. They run when
the rig's loop comes to them, are suspended in sleeps and at locks, and follow one another in the same order in every
run. The rest of `threading`, `queue` and `concurrent.futures` is Python on top of what is replaced here and in `locks`.
"""

from __future__ import annotations

import _thread
import re
import sys
import threading
import weakref
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

import greenlet

from ...errors import StrictError
from ...foundation.source_location import calling, in_application, innermost, is_own, spot
from ...history.records import message_of
from ...simulation.jobs import LiveAttempt, LiveJob
from ...simulation.task import Task
from ..patching.builtin_patching import Here
from ..patching.patches import Builtins, Make, Patch
from ..patching.real_threads import pool_worker, runner_threads, starting
from .circular_waits import CircularWaits
from .deadlocks import Deadlocks
from .held_locks import HeldLocks
from .locks import free_locks_of, leave_waits
from .thread_locals import FIRST_IDENT, ThreadStates

if TYPE_CHECKING:
    from ...history.history import History
    from ...simulation.event_loop import EventLoop
    from .executors import Executors

Mode: TypeAlias = Literal["simulated", "real"] | None

_FIRST_NATIVE = 1 << 23  # more than any system gives to a process
_POOLS = ("concurrent.futures.thread", "concurrent.futures.process")
_all: weakref.WeakSet[SimulatedThreads] = weakref.WeakSet()
_seen_at_exit: set[tuple[bool, ...]] = set()


def _end_all_threads() -> None:
    for threads in list(_all):
        threads.end_all()
        threads.states.drop_all()  # while everything that the values call at their end is still there


def _register_at_exit() -> None:
    """Make sure that the end of the interpreter does not wait for threads that will never run again.

    Functions for the exit run in the reverse order of their registration. Those of executors join their workers, so
    that ours must be registered after theirs.
    """
    loaded = tuple(name in sys.modules for name in _POOLS)
    if loaded not in _seen_at_exit:
        _seen_at_exit.add(loaded)
        threading._register_atexit(_end_all_threads)  # type: ignore[attr-defined]


_NUMBERED = re.compile(r"(Thread|ThreadPoolExecutor|asyncio|Dummy)-\d|Timer-|MainThread|.*[0-9a-f]{8}")
# Names that count what the whole process has started, or that are random: they differ from run to run.


def _name_of(function: Callable[..., Any]) -> str:
    """Return the name of a thread that begins with a function, the same in every run. Empty if it has none."""
    thread = getattr(function, "__self__", None)
    name = getattr(function, "__name__", "")
    if isinstance(thread, threading.Thread):
        name = thread.name
        if _NUMBERED.match(name):
            name = getattr(getattr(thread, "_target", None), "__name__", "")
    return "" if name.startswith(("_", "<")) else name.replace("/", "-")


class SimulatedThread(Task):
    """A simulated thread. `owner` is the attempt that started it; for a worker of a pool, the one whose work it does.
    None: the test's own code, or nobody.
    """

    def __init__(
        self, threads: SimulatedThreads, ident: int, owner: LiveAttempt | None, function: Callable[..., Any],
        args: tuple[Any, ...], kwargs: dict[str, Any],
    ) -> None:  # fmt: skip
        self._job = None if owner is None else owner.job
        self._threads = threads
        self.ident = ident
        self._owner = owner
        self.works_for: Callable[[], LiveAttempt] | None = None
        """For the thread of a worker loop: the attempt that its code belongs to now."""
        started_by = threads.attempt()
        self.index = threads.next_index(started_by)
        """Which thread of the attempt that started it it is, from 1."""
        name = _name_of(function)
        self.label = (
            f"{'' if started_by is None else f'{started_by.label}/'}thread {self.index}{f' ({name})' if name else ''}"
        )
        self._function, self._args, self._kwargs = function, args, kwargs
        self.done = False
        self.exits = False
        """True while its rig is left: the loop does not go on after it."""
        self.sentinel: Any = None  # the lock that `Thread.join` waits for
        self.stands_in = False
        """True if it runs in place of a real thread, with the values of that."""

    @property
    def owner(self) -> LiveAttempt | None:  # type: ignore[override]
        return self._owner if self.works_for is None else self.works_for()

    @property
    def job(self) -> LiveJob | None:  # type: ignore[override]
        attempt = self.owner
        if attempt is None or attempt.loop is None:
            return self._job
        return attempt.job if attempt.job.number else None  # outside a job it works for nobody

    def belong_to(self, owner: LiveAttempt | None) -> LiveAttempt | None:
        """Let it belong to an attempt from now on; return the one before."""
        before, self._owner = self._owner, owner
        self._job = None if owner is None else owner.job
        return before

    @property
    def attempt_number(self) -> int:
        attempt = self.owner if self.works_for is not None else None
        return 0 if attempt is None or not attempt.job.number else attempt.number

    @property
    def is_of_test(self) -> bool:
        """True if it ends when its rig is left: the test's own code has started it, or a worker loop."""
        owner = self.owner
        return owner is None or owner.loop is not None

    @property
    def has_ended(self) -> bool:
        return self.done

    @property
    def number(self) -> int:
        """The number of the attempt that it belongs to."""
        return 0 if self.owner is None else self.owner.number

    def run(self) -> None:
        """Run the thread's function."""
        if self.done:
            return  # its worker died before its first line
        self._threads.states.enter(self)
        function, args, kwargs = self._function, self._args, self._kwargs
        self._function, self._args, self._kwargs = _no_work, (), {}
        try:
            function(*args, **kwargs)
        except SystemExit:
            pass
        except greenlet.GreenletExit:
            raise
        except BaseException as error:
            sys.excepthook(type(error), error, error.__traceback__)
        del function, args, kwargs  # before those that join it go on
        if self.stands_in:
            self._threads.states.give_back(self)
        else:
            dummy = getattr(threading, "_thread_local_info", None)
            if dummy is not None:  # what Python 3.13 remembers of a thread that no `Thread` stands for
                dummy.__dict__.clear()
            self._threads.states.drop(self)  # now, while everything that its values call at their end is still there
        self.end()
        if self.exits:
            raise greenlet.GreenletExit

    def end(self) -> None:
        """Let those that join it continue."""
        self.done = True
        if not self.suspended:
            self.suspension = None  # the loop goes on in its greenlet, whose frames hold the whole rig
        self._threads.alive.pop(self.ident, None)
        if self.works_for is not None:
            threading._active.pop(self.ident, None)  # type: ignore[attr-defined]  # its process has ended
        if self.sentinel is not None and self.sentinel.locked():
            self.sentinel.release()

    def __repr__(self) -> str:
        whose = "the test" if self.owner is None else self.owner.job.id
        return f"a thread of {whose}"


class SimulatedThreads:
    """The simulated threads of one rig."""

    def __init__(
        self, loop: EventLoop, history: History, held_locks: HeldLocks, mode: Mode = None, strict: bool | None = None
    ) -> None:
        self._loop = loop
        self.history = history
        self._mode = mode
        self._strict = strict
        self.network: tuple[str, Any] = "", None
        """Where a job has first reached another machine, in words, and the port. Empty: nowhere, or it was told to."""
        self.states = ThreadStates(loop)
        self.on_death: list[Callable[[list[Task]], None]] = []
        """Called with an attempt whose worker has died, and its threads."""
        self.deadlocks: Deadlocks | None = None
        """Who watches the locks. None if nobody does."""
        self.held_locks = held_locks
        """Which task has taken which lock."""
        self.notes_places = False
        """True if it is noted who takes which place of a semaphore: workers are going to die."""
        self.places: list[tuple[Task, Any]] = []
        """The tasks that have taken places of semaphores, with these, while `notes_places` is True."""
        self.counters: weakref.WeakSet[Any] = weakref.WeakSet()
        """The semaphores that count something else than places: one task takes, and another one gives."""
        self.died: list[str] = []
        """In words, the threads that have ended with an error."""
        self.executors: Executors | None = None
        """The thread pools that the rig uses, while it is entered."""
        self._counts: dict[LiveAttempt | None, int] = {}
        self._started = 0
        self.alive: dict[int, SimulatedThread] = {}
        self.handles: dict[int, tuple[Any, SimulatedThread]] = {}
        """By identity, the thread handles (Python 3.13) of simulated threads."""
        self.note_error: Callable[[BaseException], None] = lambda _: None
        """Is told an error of the rig that is raised in the code under test."""
        self.circular = CircularWaits(loop, history, self.holder, self.alive, lambda: self.executors)
        self.owned: dict[int, list[Any]] = {}
        """By identity, who holds each reentrant lock: the task, how many times, and the lock."""

    def simulates(self, function: Any) -> bool:
        """Return True if a thread that is about to start runs in simulated time. Raises `StrictError`."""
        thread = getattr(function, "__self__", None)
        if self._mode != "simulated":
            named = f" {thread.name!r}" if isinstance(thread, threading.Thread) else ""
            self.forbid(f"the thread{named}", "say what becomes of threads: Rig(threads='simulated') or 'real'")
        return self._mode != "real" and not _is_of_debugger(function)

    @property
    def simulates_pools(self) -> bool:
        """True if the workers of thread pools run in simulated time."""
        return self._mode != "real"

    def forbid(self, what: str, instead: str) -> None:
        """Raise `StrictError` if a job of a strict rig opens something real."""
        attempt = self.attempt()
        if self._strict and attempt is not None:
            error = StrictError(f"{attempt.job.id} opens {what} in a strict rig, at {calling()}; {instead}")
            self.note_error(error)  # the job can swallow it
            raise error

    def note_network(self, host: str, port: Any) -> None:
        """Note that a job reaches another machine, unless somebody has said that this is meant."""
        attempt = self.attempt()
        if self._strict is None and attempt is not None and not self.network[0]:
            self.network = (
                f"the job {attempt.job.type.name} reached the real network, {host}:{port} [{in_application()}]",
                port,
            )

    def note_holders(self) -> None:
        """Note from now on who takes which place of a semaphore, since workers are going to die that may hold one."""
        self.notes_places = True

    def watch_locks(self) -> None:
        """Let another task run first at locks, and write deadlocks into the history."""
        self.deadlocks = Deadlocks(self._loop, self.history)

    def holder(self, lock: Any) -> Task | None:
        """Return the task that holds a lock. None: the test's own code, nobody, or that is not known."""
        owned = self.owned.get(id(lock))
        return self.held_locks.holder(lock) if owned is None else owned[0]

    def next_index(self, owner: LiveAttempt | None) -> int:
        """Return the index of one more thread of an owner."""
        number = self._counts[owner] = self._counts.get(owner, 0) + 1
        return number

    def attempt(self) -> LiveAttempt | None:
        """Return the attempt whose code runs now, in the attempt itself or in a thread of it."""
        task = self._loop.current
        return task if isinstance(task, LiveAttempt) else task.owner if isinstance(task, SimulatedThread) else None

    def start(
        self, function: Callable[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any], label: str = ""
    ) -> SimulatedThread:
        """Start a simulated thread. It runs as soon as the present task is suspended.

        Parameters: `label` is its name. Default: made from who starts it.
        """
        _all.add(self)
        _register_at_exit()
        self._started += 1
        self._note_death(function)
        owner = None if _is_of_pool(function) else self.attempt()
        thread = SimulatedThread(self, FIRST_IDENT + self._started, owner, function, args, kwargs)
        if label:
            thread.label = label
        self.alive[thread.ident] = thread
        self._loop.start_task(thread)
        return thread

    def _note_death(self, function: Callable[..., Any]) -> None:
        """Note the error with which a thread ends, as well as calling `threading.excepthook`."""
        thread = getattr(function, "__self__", None)
        hook = getattr(thread, "_invoke_excepthook", None)
        if thread is None or hook is None:
            return

        def note(thread: threading.Thread) -> None:  # no circle: the thread comes as an argument
            error = sys.exception() if hasattr(sys, "exception") else sys.exc_info()[1]
            if error is not None and not isinstance(error, SystemExit):
                code, instruction = innermost(error)
                place = "" if code is None else f" [{spot(code, instruction)}]"
                words = f"the thread {thread.name} has ended with {type(error).__name__}: {message_of(error)}{place}"
                self.died.append(words)
            hook(thread)

        vars(thread)["_invoke_excepthook"] = note

    def stand_in(self, ident: int, state: int, function: Callable[[], Any]) -> None:
        """Start a simulated thread in place of a real one, which waits for it: it has its identifier and values.

        Parameters: `state` is the address of the real thread's state.
        """
        thread = SimulatedThread(self, ident, self.attempt(), function, (), {})
        thread.stands_in = True
        self.states.borrow(thread, state)
        self.alive[ident] = thread
        self._loop.start_task(thread)

    def ident(self) -> int | None:
        """Return the identifier of the simulated thread that runs now. None if none does."""
        task = self._loop.current
        if isinstance(task, SimulatedThread):
            return task.ident
        return self.states.ident_of_worker(task.worker) if isinstance(task, LiveAttempt) else None

    def end_those_of_test(self, and_of_jobs: bool = False) -> None:
        """End the threads that the test's own code has started, as an exit of their process does: their rig is left.

        Parameters: `and_of_jobs`: True ends those of jobs as well.
        """
        self.end_idle_pool_workers()  # an exit that one of them meets is written into the log, as its mistake
        hook = threading.excepthook
        threading.excepthook = lambda told: None if told.exc_type is SystemExit else hook(told)
        try:
            for thread in list(self.alive.values()):
                if and_of_jobs or thread.is_of_test:
                    thread.exits = True
                    if thread.suspended:
                        with self.states.of(thread):  # its handlers use them
                            self._loop.switcher.exit(thread, SystemExit())  # type: ignore[attr-defined]
                    thread.end()
                    self.states.drop(thread)
        finally:
            threading.excepthook = hook

    def end_idle_pool_workers(self) -> None:
        """End the workers of thread pools that wait for work: their rig is left."""
        worker = pool_worker()
        if worker is None:
            return
        for thread in list(self.alive.values()):
            frame = None if thread.suspension is None else thread.suspension.gr_frame
            while frame is not None and is_own(frame.f_code.co_filename):
                frame = frame.f_back
            if frame is not None and frame.f_code is worker:
                thread.end()
                self._loop.end_suspended(thread)
                self.states.drop(thread)

    def end_with(self, attempt: LiveAttempt) -> None:
        """End the threads of an attempt whose worker has died."""
        threads = [thread for thread in self.alive.values() if _belongs(thread.owner, attempt)]
        self.held_locks.note_recent(self._loop.current)
        leave_waits([attempt, *threads])
        free_locks_of(self, [attempt, *threads])
        for told in self.on_death:
            told([attempt, *threads])
        for thread in threads:
            if thread.works_for is not None:
                continue  # the loop that has died ends it
            thread.end()
            self._loop.end_suspended(thread)
            self.states.drop(thread)
        self.states.drop(attempt.worker)  # the process is new
        if self.executors is not None:
            self.executors.worker_died(attempt, {thread.ident for thread in threads}, self._start_for_nobody)

    def _start_for_nobody(self, function: Callable[[], Any]) -> None:
        current, self._loop.current = self._loop.current, None
        try:
            self.start(function, (), {})
        finally:
            self._loop.current = current

    def free_locks(self) -> None:
        """Release every lock that a task of this rig still holds."""
        free_locks_of(self, None)

    def forget(self) -> None:
        """Do nothing about this rig at the interpreter's exit."""
        _all.discard(self)

    def end_all(self) -> None:
        """Let whoever joins a thread of this rig continue: the threads will never run again."""
        for thread in list(self.alive.values()):
            thread.end()


def _belongs(owner: LiveAttempt | None, dead: LiveAttempt) -> bool:
    """Return True if what an attempt owns dies with another one: it is the same, or both are of one worker loop."""
    return owner is dead or (owner is not None and dead.loop is not None and owner.loop is dead.loop)


def _is_of_pool(function: Any) -> bool:
    """Return True for the code of a worker of a thread pool: it works for whoever gives it work."""
    worker = pool_worker()
    target = getattr(getattr(function, "__self__", None), "_target", None)
    return worker is not None and getattr(target, "__code__", None) is worker


def _is_of_debugger(function: Any) -> bool:
    """Return True for what a debugger starts as a thread: it serves its user in real time."""
    thread = getattr(function, "__self__", None)
    target = getattr(thread, "_target", None) or (type(thread) if thread is not None else function)
    module = getattr(target, "__module__", None) or ""
    return getattr(thread, "is_pydev_daemon_thread", False) or module.split(".")[0] in _DEBUGGERS


_DEBUGGERS = ("debugpy", "pydevd", "_pydevd_bundle", "_pydev_bundle", "pdb", "rpdb")


def thread_patches(here: Here, real_started: Callable[[], None]) -> list[Patch]:
    """Return the patches of `_thread`.

    Parameters: `here` returns the world that the calling thread has entered, or None. `real_started` is called before
    one more real thread starts.
    """

    def starter(real: Callable[..., Any]) -> Callable[..., Any]:
        def start(function: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is None or not world.threads.simulates(function):
                real_started()
                return _begun(lambda begin: real(begin, *args, **kwargs), function)
            return world.threads.start(function, args[0] if args else (), args[1] if len(args) > 1 else {}).ident

        return start

    def joinable(real: Callable[..., Any]) -> Callable[..., Any]:
        def start(function: Any, handle: Any = None, daemon: bool = True) -> Any:
            world = here()
            if world is None or not world.threads.simulates(function):
                real_started()
                return _begun(lambda begin: real(begin, handle=handle, daemon=daemon), function)
            if handle is None:
                handle = _thread._ThreadHandle()  # type: ignore[attr-defined]
            # A real thread without work brings the handle to its end, so that nothing waits for it at the exit.
            real_started()
            real(_no_work, handle=handle, daemon=True)
            world.threads.handles[id(handle)] = handle, world.threads.start(function, (), {})
            return handle

        return start

    def ident(real: Callable[[], int]) -> Callable[[], int]:
        def get_ident() -> int:
            world = here()
            return (world is not None and world.threads.ident()) or real()

        return get_ident

    def count(real: Callable[[], int]) -> Callable[[], int]:
        def _count() -> int:
            world = here()
            return real() if world is None else real() - len(runner_threads) + len(world.threads.alive)

        return _count

    def native_ident(real: Callable[[], int]) -> Callable[[], int]:
        def get_native_id() -> int:
            world = here()
            ident = None if world is None else world.threads.ident()
            return real() if ident is None else _FIRST_NATIVE + ident - FIRST_IDENT

        return get_native_id

    def sentinel(real: Callable[[], Any]) -> Callable[[], Any]:
        def set_sentinel() -> Any:
            world = here()
            thread = None if world is None else world.loop.current
            if isinstance(thread, SimulatedThread):
                thread.sentinel = _thread.allocate_lock()
                return thread.sentinel
            return real()

        return set_sentinel

    makers: dict[str, Make] = {
        "start_new_thread": starter, "start_new": starter, "start_joinable_thread": joinable,
        "get_ident": ident, "get_native_id": native_ident, "_count": count, "_set_sentinel": sentinel,
    }  # fmt: skip
    return [Builtins(_thread, makers)]


def _begun(start: Callable[[Callable[..., Any]], Any], function: Callable[..., Any]) -> Any:
    """Start a real thread. It counts as running from now, and not from its first line."""

    def begin(*args: Any, **kwargs: Any) -> None:
        starting.remove(begin)
        function(*args, **kwargs)

    starting.append(begin)
    try:
        return start(begin)
    except BaseException:
        starting.remove(begin)
        raise


def _no_work() -> None:
    return
