"""Simulated threads: code that starts threads, run as tasks of the rig on simulated time.

A thread that a job starts, a `threading.Timer` and the workers of a `ThreadPoolExecutor` become tasks: they run
when the rig's loop comes to them, stand still in sleeps and at locks, and follow one another in the same order in
every run. The rest of `threading`, `queue` and `concurrent.futures` is Python on top of what is replaced here and
in `locks`.
"""

from __future__ import annotations

import _thread
import sys
import threading
import weakref
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

import greenlet

from ..core.errors import StrictError
from ..core.jobs import Attempt
from ..core.task import Task
from ..core.where import calling
from .deadlocks import Deadlocks
from .locals import drop, exchange, fresh
from .locks import free_locks_of, starting
from .readers import STREAMS, by_thread

if TYPE_CHECKING:
    from ..core.engine import Engine

Mode: TypeAlias = Literal["simulated", "real"] | None

_FIRST_IDENT = 1 << 44

_POOLS = ("concurrent.futures.thread", "concurrent.futures.process")
_all: weakref.WeakSet[Threads] = weakref.WeakSet()
_seen_at_exit: set[tuple[bool, ...]] = set()


def _let_all_go() -> None:
    for threads in list(_all):
        threads.let_go()


def _mind_the_exit() -> None:
    """See to it that the interpreter's end does not wait for threads that will never run again.

    Its functions for that run in the reverse order of their registration; those of executors join their workers, so
    that ours has to come after theirs.
    """
    loaded = tuple(name in sys.modules for name in _POOLS)
    if loaded not in _seen_at_exit:
        _seen_at_exit.add(loaded)
        threading._register_atexit(_let_all_go)  # type: ignore[attr-defined]


def simulated(ident: int) -> bool:
    """Whether an identifier is that of a simulated thread."""
    return _FIRST_IDENT <= ident < _FIRST_IDENT + (1 << 30)


class Side(Task):
    """A simulated thread. `owner` is the attempt that started it, None for the test's own code."""

    __slots__ = (
        "_args",
        "_first",
        "_function",
        "_kwargs",
        "_locals",
        "_threads",
        "done",
        "ident",
        "owner",
        "place",
        "sentinel",
    )

    own_locals = True

    def __init__(
        self, threads: Threads, ident: int, owner: Attempt | None, function: Callable[..., Any],
        args: tuple[Any, ...], kwargs: dict[str, Any],
    ) -> None:  # fmt: skip
        super().__init__(None if owner is None else owner.job)
        self._threads = threads
        self.ident = ident
        self.owner = owner
        self.place = threads.count_of(owner)
        """Which thread of its owner it is, from 1."""
        self._function, self._args, self._kwargs = function, args, kwargs
        self.done = False
        self.sentinel: Any = None  # the lock that `Thread.join` waits for
        self._locals = fresh()
        self._first = True

    @property
    def label(self) -> str:
        whose = "" if self.owner is None else f"{self.owner.label}/"
        return f"{whose}thread {self.place}"

    @property
    def number(self) -> int:
        """The number of the attempt that it belongs to."""
        return 0 if self.owner is None else self.owner.number

    def run(self) -> None:
        """Run the thread's function."""
        if self.done:
            return  # its worker died before it came to its first line
        self.swap_locals()
        try:
            self._function(*self._args, **self._kwargs)
        except SystemExit:
            pass
        except greenlet.GreenletExit:
            self.swap_locals()
            raise
        except BaseException as error:
            sys.excepthook(type(error), error, error.__traceback__)
        dummy = getattr(threading, "_thread_local_info", None)
        if dummy is not None:  # what Python 3.13 remembers of a thread that no `Thread` stands for
            dummy.__dict__.clear()
        self.swap_locals()
        own, self._locals = self._locals, fresh()
        drop(own)  # now, while what its values call at their end is still there
        del own
        self.end()

    def end(self) -> None:
        """Let those that join it go on."""
        self.done = True
        self._threads.alive.pop(self.ident, None)
        if self.sentinel is not None and self.sentinel.locked():
            self.sentinel.release()

    def swap_locals(self) -> None:
        """Exchange the thread's own values of every `threading.local` for those in place."""
        self._locals = exchange(self._locals)
        if self._first:
            self._first = False
            by_thread.__dict__.update(dict.fromkeys(STREAMS, ()))

    def __repr__(self) -> str:
        whose = "the test" if self.owner is None else self.owner.job.id
        return f"a thread of {whose}"


class Threads:
    """The simulated threads of one rig."""

    def __init__(self, engine: Engine, mode: Mode = None, strict: bool = False) -> None:
        self._engine = engine
        self._mode = mode
        self._strict = strict
        self.deadlocks: Deadlocks | None = None
        """Who watches the locks, where somebody does."""
        self._counts: dict[Attempt | None, int] = {}
        self._started = 0
        self.alive: dict[int, Side] = {}
        self.handles: dict[int, tuple[Any, Side]] = {}
        """By identity, the thread handles (Python 3.13) that stand for simulated threads."""
        self.owned: dict[int, list[Any]] = {}
        """By identity, who holds each reentrant lock: the task, how often, and the lock."""

    def simulates(self, function: Any) -> bool:
        """Whether a thread about to start is to be simulated. Raises `StrictError`."""
        thread = getattr(function, "__self__", None)
        if self._mode != "simulated":
            named = f" {thread.name!r}" if isinstance(thread, threading.Thread) else ""
            self.forbid(f"the thread{named}", "Rig(threads='simulated') says that its threads are meant to be there")
        if self._mode is not None:
            return self._mode == "simulated"
        if self._engine.current is not None or isinstance(thread, threading.Timer):
            return True
        events = sys.modules.get("asyncio.events")
        if events is not None and events._get_running_loop() is not None:
            return True  # a coroutine's helper
        pools = sys.modules.get("concurrent.futures.thread")
        target = getattr(thread, "_target", None)
        # Besides the workers of a pool, the thread in which an event loop shuts its pool down.
        return pools is not None and (target is pools._worker or getattr(target, "__name__", "") == "_do_shutdown")

    def forbid(self, what: str, instead: str) -> None:
        """Raise `StrictError` where a job of a strict rig reaches for something real."""
        attempt = self.attempt()
        if self._strict and attempt is not None:
            raise StrictError(f"{attempt.job.id} opens {what} in a strict rig, at {calling()}; {instead}")

    def watch_locks(self) -> None:
        """Let locks be points where another task may be switched in, and deadlocks be written down."""
        self.deadlocks = Deadlocks(self._engine)

    def count_of(self, owner: Attempt | None) -> int:
        """Count one more thread of an owner."""
        number = self._counts[owner] = self._counts.get(owner, 0) + 1
        return number

    def attempt(self) -> Attempt | None:
        """Return the attempt whose code, or whose thread's code, runs now."""
        task = self._engine.current
        return task if isinstance(task, Attempt) else task.owner if isinstance(task, Side) else None

    def start(self, function: Callable[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any]) -> Side:
        """Start a simulated thread: it runs as soon as the present task stands still."""
        _all.add(self)
        _mind_the_exit()
        self._started += 1
        side = Side(self, _FIRST_IDENT + self._started, self.attempt(), function, args, kwargs)
        self.alive[side.ident] = side
        self._engine.start(side)
        return side

    def ident(self) -> int | None:
        """Return the identifier of the simulated thread that runs now; None where none does."""
        task = self._engine.current
        return task.ident if isinstance(task, Side) else None

    def die_with(self, attempt: Attempt) -> None:
        """End the threads of an attempt whose worker has died."""
        sides = [s for s in self.alive.values() if s.owner is attempt]
        free_locks_of(self, [attempt, *sides])
        for side in sides:
            side.end()
            if side.parked:
                side.parked = False
                self._engine.carrier.bury(side)

    def free_locks(self) -> None:
        """Release every lock that somebody in this world still holds."""
        free_locks_of(self, None)

    def forget(self) -> None:
        """Take this world off the list of those to be let go at the interpreter's exit."""
        _all.discard(self)

    def let_go(self) -> None:
        """Let whoever joins a thread that will never run again go on; the interpreter does at its exit."""
        for side in list(self.alive.values()):
            side.end()


def replacements(here: Callable[[], Any], real_started: Callable[[], None]) -> list[tuple[str, Callable[[Any], Any]]]:
    """Return, for functions of `_thread` by name, what makes the stand-in from the real one.

    `here` gives the world that the calling thread has entered, or None; `real_started` is told that there is
    about to be one more real thread.
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
            # A thread of no time takes the handle to its real end, so that nothing waits for it at exit.
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

    def sentinel(real: Callable[[], Any]) -> Callable[[], Any]:
        def set_sentinel() -> Any:
            world = here()
            if world is not None and world.threads.ident() is not None:
                side = world.engine.current
                side.sentinel = _thread.allocate_lock()
                return side.sentinel
            return real()

        return set_sentinel

    return [
        ("start_new_thread", starter), ("start_new", starter), ("start_joinable_thread", joinable),
        ("get_ident", ident), ("_set_sentinel", sentinel),
    ]  # fmt: skip


def _begun(start: Callable[[Callable[..., Any]], Any], function: Callable[..., Any]) -> Any:
    """Start a real thread, which counts as running from this moment and not from its first line."""

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
