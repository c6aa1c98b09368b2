"""The watchdog: no run hangs in silence.

A call into C that blocks for ever would stop the whole process, and no code of the rig would run that could say so. A
real thread looks at the entered rigs now and then. If nothing has moved for a while, it interrupts the call with a
signal, and the run ends with an error that names it.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import select
import signal
import threading
from types import FrameType
from typing import TYPE_CHECKING, Any

from ...errors import StuckError
from ...foundation.source_location import waiting_at
from ..patching.clock_functions import REAL
from ..patching.real_functions import poll_for, real_get_ident, real_pipe, real_read, real_start_thread, real_write
from ..patching.real_threads import current_frames, runner_threads
from ..patching.system import INTERRUPT, computed_s
from .signals import deferring

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig

SIGNAL = INTERRUPT
"""Interrupts a call."""

_COMPUTES = 0.02
# The share of the processor's time from which on a thread computes. One that waits takes none, and on a busy
# machine one that computes gets little.
_COMPUTES_FOR = 3  # how many times longer a job can compute at one instant
_LOOKS = 8  # looks while a run can hang
_LOOKS_AT_RUNS_S = 0.25  # how often to look if a run must be over at an instant
_DEBUGGERS = ("pdb.py", "bdb.py", "cmd.py", "code.py", "pydevd.py")
_real_monotonic, _real_sleep = REAL["monotonic"], REAL["sleep"]


class _Seen:
    """What the watchdog saw of one rig."""

    __slots__ = ("computed_s", "ended", "moved", "since_s")

    def __init__(self, moved: Any, since_s: float, computed_s: float) -> None:
        self.moved, self.since_s, self.computed_s = moved, since_s, computed_s
        self.ended = False


class Watchdog:
    """Looks after the rigs of this process. Parameters: `worlds` are those that are entered, by real thread."""

    def __init__(self, worlds: dict[int, Any]) -> None:
        self._worlds = worlds
        self._every_s = 0.0
        self._wake = -1  # to write here ends the thread
        self._gone = -1  # can be read when it has ended; a lock would be waited for in simulated time
        self._seen: dict[int, _Seen] = {}
        self._error: StuckError | None = None
        self._too_long: StuckError | None = None
        self._thread = 0
        self.ends_at: float | None = None
        """The instant of the real monotonic clock at which a run must be over. None: no instant."""
        os.register_at_fork(before=self._rest, after_in_parent=self._go_on, after_in_child=self._seen.clear)

    def look_after(self, stuck_after_s: float) -> None:
        """Look after a rig that is entered now."""
        self._seen.pop(real_get_ident(), None)
        every = max(stuck_after_s / _LOOKS, 0.02)
        if self.ends_at is not None:
            every = min(every, _LOOKS_AT_RUNS_S)
        if self._wake >= 0 and self._every_s <= every:
            return
        if not hasattr(signal, "pthread_kill") or SIGNAL < 0:
            return  # this system has no way to interrupt a call
        self._rest()
        self._every_s = every
        if threading.current_thread() is threading.main_thread() and signal.getsignal(SIGNAL) != self._interrupted:
            signal.signal(SIGNAL, self._interrupted)
        reads, self._wake = real_pipe()
        self._gone, ends = real_pipe()
        self._thread = real_start_thread(self._look, (reads, ends))
        runner_threads.add(self._thread)  # no wait of a rig counts on it
        real_read(self._gone, 1)  # it runs

    def _rest(self) -> None:
        """End the thread: a process should have but one thread when it forks."""
        if self._wake >= 0:
            os.close(self._wake)
            self._wake = -1
            self._every_s = 0.0
            real_read(self._gone, 1)
            os.close(self._gone)
            while self._thread in current_frames():
                _real_sleep(0)
            runner_threads.discard(self._thread)

    def _go_on(self) -> None:
        """Look again after a fork, if a rig is entered."""
        world = self._worlds.get(real_get_ident())
        if world is not None:
            self.look_after(world.border.outside.stuck_after_s)

    def _look(self, reads: int, ends: int) -> None:
        signal.pthread_sigmask(signal.SIG_BLOCK, signal.valid_signals())  # they are for the program's own threads
        real_write(ends, b".")
        try:
            while not poll_for(reads, select.POLLIN, round(self._every_s * 1000)):
                self._look_at_all()
        finally:
            os.close(reads)
            os.close(ends)

    def _look_at_all(self) -> None:
        # On its own, so that no variable holds a rig that is left until the next look.
        with contextlib.suppress(RuntimeError, KeyError, ProcessLookupError):  # a rig is left now
            for thread, world in list(self._worlds.items()):
                self._look_at(thread, world)

    def _look_at(self, thread: int, world: EnteredRig) -> None:
        now = _real_monotonic()
        if self.ends_at is not None and now >= self.ends_at and not _is_debugged(current_frames()[thread]):
            self.ends_at = now + 1  # once more, if something swallows the error
            where = waiting_at(current_frames()[thread])
            self._too_long = StuckError(
                f"{TOO_LONG}, and is given up at {where}; it may wait for something that never comes"
            )
            self._end(thread, self._too_long)
            return
        computed = computed_s(thread)
        moved = world.loop.now, len(world.threads.history), world.border.outside.looks
        seen = self._seen.get(thread)
        if seen is None or seen.moved != moved or world.border.outside.looks_for_real:
            self._seen[thread] = _Seen(moved, now, computed)
            return
        stood, limit = now - seen.since_s, world.border.outside.stuck_after_s
        frame = current_frames()[thread]
        if stood < limit or _is_debugged(frame):
            return
        computes = (computed - seen.computed_s) / stood >= _COMPUTES
        if computes and (not world.loop.running or stood < _COMPUTES_FOR * limit):
            return
        error = StuckError(_words(world, stood, computes, waiting_at(frame)))
        if seen.ended:
            if not computes and stood > 2 * limit:
                self._give_up(error)
            return
        seen.ended = True
        self._end(thread, error)

    def _end(self, thread: int, error: StuckError) -> None:
        """Raise an error in a thread, past every `except` of a job."""
        if thread == threading.main_thread().ident:
            self._error = error
            signal.pthread_kill(thread, SIGNAL)
        else:  # Python handles signals in its main thread alone
            os.write(2, f"ironclock: {error}\n".encode())
            ctypes.pythonapi.PyThreadState_SetAsyncExc(ctypes.c_ulong(thread), ctypes.py_object(StuckError))
            with contextlib.suppress(OSError):
                signal.pthread_kill(thread, SIGNAL)

    def _interrupted(self, _number: int, _frame: FrameType | None) -> None:
        """Raise the error in the main thread, past every `except` of a job."""
        error, self._error = self._error, None
        world = self._worlds.get(real_get_ident())
        if error is None or (error is self._too_long and (world is None or self.ends_at is None or deferring)):
            return  # the run is over, or is left just now; if not, the watchdog comes again
        if world is not None:
            world.loop.stop(error)
        raise error

    def _give_up(self, error: StuckError) -> None:
        """End the process: the call cannot be interrupted."""
        os.write(2, f"ironclock: {error}; the call cannot be interrupted, so the process ends\n".encode())
        os._exit(70)


TOO_LONG = "the run has taken much longer than it does if nothing goes wrong"
"""How the error of a run begins that was given up."""


def _words(world: EnteredRig, stood: float, computes: bool, where: str) -> str:
    task = world.loop.current
    who = "the test's own code" if task is None else task.label
    text = world.loop.timeline.text(world.loop.now)
    if computes:
        return (
            f"{who} has computed for {stood:.0f} real seconds at {text}, and nothing else could run, at {where}; end "
            f"its loop, or, if it only takes long, raise stuck_after (now {world.border.outside.stuck_after_s:g} s)"
        )
    return (
        f"{who} has stood in one call for {stood:.0f} real seconds at {text}, and nothing else could run, at {where}; "
        "the rig does not know this call: name it with rig.outside('package.module:function'), so that the others go "
        f"on meanwhile, or, if it only takes long, raise stuck_after (now {world.border.outside.stuck_after_s:g} s)"
    )


def _is_debugged(frame: FrameType | None) -> bool:
    """Return True if somebody sits at a debugger's prompt."""
    while frame is not None:
        if frame.f_code.co_filename.endswith(_DEBUGGERS):
            return True
        frame = frame.f_back
    return False
