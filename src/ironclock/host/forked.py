"""The hard form of a crash: an attempt in a forked child that really dies at its seam.

The child runs the job's code alone, with the connections that the code itself opens, so that a real database takes
back what a dead client had not committed. Whatever belongs to the rig (the clock, queues, stands, the history)
stays with the parent: the child asks it, one message at a time, over a socket pair.
"""

from __future__ import annotations

import contextlib
import gc
import os
import pickle
import signal
import socket
import struct
import sys
import warnings
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NoReturn

from ..core.errors import PayloadError, StuckError
from ..core.jobs import Attempt, Job

if TYPE_CHECKING:
    from ..core.engine import Engine
    from ..core.faults import Fault

_LENGTH = struct.Struct("!Q")
_THROWN, _GIVEN = "thrown", "given"


class Line:
    """One end of the line between parent and child."""

    def __init__(self, end: socket.socket) -> None:
        self._end = end

    def send(self, message: tuple[Any, ...]) -> None:
        """Send one message; raise what pickle raises where it cannot be sent."""
        packed = pickle.dumps(message)
        self._end.sendall(_LENGTH.pack(len(packed)) + packed)

    def receive(self) -> tuple[Any, ...] | None:
        """Return the next message; None where the other end is gone."""
        head = self._exactly(_LENGTH.size)
        body = None if head is None else self._exactly(_LENGTH.unpack(head)[0])
        return None if body is None else pickle.loads(body)

    def _exactly(self, size: int) -> bytes | None:
        parts = bytearray()
        while len(parts) < size:
            try:
                part = self._end.recv(size - len(parts))
            except OSError:
                return None
            if not part:
                return None
            parts += part
        return bytes(parts)

    def close(self) -> None:
        """Close this end."""
        self._end.close()


class Forks:
    """Runs attempts in forked children, for one rig."""

    def __init__(self, engine: Engine, stands: dict[str, Any], fresh_loops: Callable[[], None]) -> None:
        self._engine = engine
        self._stands = stands
        self._fresh_loops = fresh_loops
        self._children: list[int] = []
        self._lines: dict[Attempt, tuple[Line, int]] = {}
        engine.delivery.died.append(self._let_go)

    def run(self, attempt: Attempt) -> Any:
        """Run an attempt's code in a child; return or raise what it did there. Where it dies, so does the worker."""
        self.reap()
        here, there = socket.socketpair()
        sys.stdout.flush()
        sys.stderr.flush()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)  # other threads: none of them is needed in the child
            child = os.fork()
        if child == 0:
            here.close()
            _Child(self._engine, Line(there), attempt).live(self._fresh_loops)
        there.close()
        self._children.append(child)
        line = Line(here)
        self._lines[attempt] = line, child
        try:
            return self._serve(attempt, line, child)
        finally:
            self._lines.pop(attempt, None)

    def reap(self) -> None:
        """Collect the children that have ended."""
        for child in self._children[:]:
            try:
                if os.waitpid(child, os.WNOHANG)[0]:
                    self._children.remove(child)
            except ChildProcessError:
                self._children.remove(child)

    def _let_go(self, attempt: Attempt) -> None:
        """End the child of an attempt that is killed while it stands still."""
        found = self._lines.pop(attempt, None)
        if found is not None and found[1] in self._children:
            line, child = found
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, signal.SIGKILL)
            self._end(line, child)

    def _end(self, line: Line, child: int) -> None:
        line.close()
        self._children.remove(child)
        with contextlib.suppress(ChildProcessError):
            os.waitpid(child, 0)

    def _serve(self, attempt: Attempt, line: Line, child: int) -> Any:
        engine = self._engine
        while True:
            message = line.receive()
            what, *rest = message or ("died", "the process itself", -1)
            if what == "done":
                self._end(line, child)
                return rest[0]
            if what == "failed":
                self._end(line, child)
                raise rest[0]
            if what == "died":
                self._end(line, child)
                where, number = rest
                fault: Fault | None = engine.faults.seam[number] if number >= 0 else None
                if fault is not None:
                    fault.struck += 1
                engine.delivery.crash(attempt, where, 0 if fault is None else fault.by_ns)
                engine.carrier.kill(attempt)
            try:
                answer = getattr(self, f"_{what}")(attempt, *rest)
            except Exception as error:
                answer = (_THROWN, _portable(error), engine.now)
            else:
                answer = (_GIVEN, answer, engine.now)
            line.send(answer)

    # --- what a child asks for ----------------------------------------------------------------------

    def _sleep(self, attempt: Attempt, ns: int) -> None:
        passing, self._engine.passing = self._engine.passing, None  # the child has passed that seam
        try:
            self._engine.sleep(ns)
        finally:
            self._engine.passing = passing

    def _effect(self, attempt: Attempt, name: str, key: Any, outcome: str, data: dict[str, Any]) -> None:
        self._engine.effects.write(name, key, outcome, data, attempt)

    def _stand(self, attempt: Attempt, name: str, operation: str, key: Any, data: dict[str, Any]) -> Any:
        passing, self._engine.passing = self._engine.passing, None
        try:
            return self._stands[name].redo(operation, key, data)
        finally:
            self._engine.passing = passing

    def _enqueue(self, attempt: Attempt, name: str, args: Any, kwargs: Any, due: int, rest: tuple[Any, ...]) -> int:
        engine = self._engine
        queue, priority, key, copies = rest
        passing, engine.passing = engine.passing, None
        try:
            job = engine.enqueue(engine.types[name], args, kwargs, max(due, engine.now), queue, priority, key)
        finally:
            engine.passing = passing
        job.copies = copies
        return job.number

    def _record(self, attempt: Attempt, what: str, detail: Any) -> None:
        if what == "progress":
            attempt.job.progress = detail
        self._engine.record(what, attempt.job, attempt.number, detail)

    def _remember(self, attempt: Attempt, name: str, value: Any) -> None:
        self._engine.memory.of(attempt.job)[name] = value


class _Child:
    """The rig as the child sees it: its own copy, whose ways out lead to the parent."""

    def __init__(self, engine: Engine, line: Line, attempt: Attempt) -> None:
        self._engine = engine
        self._line = line
        self._attempt = attempt

    def live(self, fresh_loops: Callable[[], None]) -> NoReturn:
        """Run the attempt and end the process."""
        engine, delivery = self._engine, self._engine.delivery
        code = 0
        gc.freeze()  # a collection would touch, and so copy, every page that is shared with the parent
        try:
            fresh_loops()
            engine.sleep = self._sleep  # type: ignore[method-assign]
            engine.wait = self._wait  # type: ignore[method-assign]
            engine.record = self._record  # type: ignore[method-assign]
            engine.effects.stood_in = lambda *effect: self._ask("effect", *effect)
            engine.effects.elsewhere = self._stand
            engine.enqueued = [self._enqueued]
            engine.pilot = None
            engine.memory.told = lambda name, value: self._ask("remember", name, value)
            delivery.dies = self._die
            try:
                last: tuple[Any, ...] = ("done", delivery.call(self._attempt))
            except BaseException as error:
                last = ("failed", _portable(error))
            sys.stdout.flush()
            sys.stderr.flush()
            try:
                self._line.send(last)
            except (pickle.PicklingError, TypeError, AttributeError) as error:
                job = self._attempt.job.id
                words = f"the result of {job} cannot come back from its forked child: {error}"
                self._line.send(("failed", PayloadError(words)))
        except BaseException:
            code = 1
        finally:
            os._exit(code)

    def _ask(self, *message: Any) -> Any:
        self._line.send(message)
        answer = self._line.receive()
        if answer is None:
            os._exit(1)  # the parent has let go of this attempt
        how, value, self._engine.now = answer
        self._engine.forget_present()
        if how == _THROWN:
            raise value
        return value

    def _sleep(self, ns: int) -> None:
        if self._engine.passing is not None:
            self._engine.passing("sleep")
        self._ask("sleep", ns)

    def _wait(self, ready: Callable[[], Any], until_ns: int | None = None) -> bool:
        if not ready():
            if until_ns is None:
                raise StuckError(
                    f"{self._attempt.job.id} waits in a forked child for what nothing there can bring about"
                )
            self._ask("sleep", max(0, until_ns - self._engine.now))
        return bool(ready())

    def _record(self, what: str, job: Job | None = None, attempt: int = 0, detail: Any = None) -> None:
        self._ask("record", what, detail)

    def _stand(self, stand: Any, operation: str, key: Any, data: dict[str, Any]) -> Any:
        name = f"{stand.name}.{operation}"
        passing = self._engine.passing
        if passing is not None:
            passing(f"before {name}")
        answer = self._ask("stand", stand.name, operation, key, data)
        if passing is not None:
            passing(f"after {name}")
        return answer

    def _enqueued(self, job: Job) -> None:
        rest = (job.queue, job.priority, job.key, job.copies)
        job.number = self._ask("enqueue", job.type.name, job.args, job.kwargs, job.due_ns, rest)
        job._id = ""

    def _die(self, where: str, fault: Fault) -> NoReturn:
        self._line.send(("died", where, self._engine.faults.seam.index(fault)))
        os._exit(70)


def _portable(error: BaseException) -> BaseException:
    """Return an error that survives the way between two processes."""
    try:
        pickle.loads(pickle.dumps(error))
    except Exception:
        return RuntimeError(f"{type(error).__name__}: {error}")
    return error
