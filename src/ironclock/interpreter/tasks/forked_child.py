"""The hard form of a crash: an attempt in a forked child process that really dies at its seam.

The child runs only the job's code, with the connections that the code itself opens, so that a real database rolls back
what a dead client has not committed. Everything of the rig (the clock, queues, services, the history) stays with the
parent. The child asks for it, one message at a time, over a socket pair.
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
from collections.abc import Callable, Iterator
from os import _exit as end_process
from typing import Any, NoReturn

from ...errors import PayloadError, StuckError
from ...simulation.faults.kind import Strike
from ...simulation.jobs import LiveAttempt, LiveJob
from ...simulation.simulation import Simulation
from ..patching.real_functions import real_recv, real_sendall, real_waitpid
from .forks import fork_within_rig

_LENGTH = struct.Struct("!Q")
_THROWN, _GIVEN = "thrown", "given"


class MessageChannel:
    """One end of the channel between parent and child."""

    def __init__(self, end: socket.socket) -> None:
        self._end = end

    def send(self, message: tuple[Any, ...]) -> None:
        """Send one message. Raises what pickle raises if it cannot be sent."""
        packed = pickle.dumps(message)
        real_sendall(self._end, _LENGTH.pack(len(packed)) + packed)

    def receive(self) -> tuple[Any, ...] | None:
        """Return the next message. None if the other end is gone."""
        head = self._exactly(_LENGTH.size)
        body = None if head is None else self._exactly(_LENGTH.unpack(head)[0])
        return None if body is None else pickle.loads(body)

    def _exactly(self, size: int) -> bytes | None:
        parts = bytearray()
        while len(parts) < size:
            try:
                part = real_recv(self._end, size - len(parts))
            except OSError:
                return None
            if not part:
                return None
            parts += part
        return bytes(parts)

    def close(self) -> None:
        """Close this end."""
        self._end.close()


class ForkedChildren:
    """Runs attempts in forked children, for one rig."""

    def __init__(
        self, simulation: Simulation, services: dict[str, Any], forget_asyncio_loops: Callable[[], None]
    ) -> None:
        self._simulation = simulation
        self._loop = simulation.loop
        self._services = services
        self._forget_asyncio_loops = forget_asyncio_loops
        self._children: list[int] = []
        self._channels: dict[LiveAttempt, tuple[MessageChannel, int]] = {}
        simulation.attempts.on_death.append(self._kill_child_of)

    def run(self, attempt: LiveAttempt) -> Any:
        """Run the code of an attempt in a child; return or raise what it did there. If it dies, so does the worker."""
        self.collect_ended()
        here, there = socket.socketpair()
        sys.stdout.flush()
        sys.stderr.flush()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)  # about other threads: the child needs none of them
            child = fork_within_rig()
        if child == 0:
            here.close()
            _Child(self._simulation, MessageChannel(there), attempt).live(self._forget_asyncio_loops)
        there.close()
        self._children.append(child)
        channel = MessageChannel(here)
        self._channels[attempt] = channel, child
        try:
            return self._serve(attempt, channel, child)
        finally:
            self._channels.pop(attempt, None)

    def collect_ended(self) -> None:
        """Collect the children that have ended."""
        for child in self._children[:]:
            try:
                if real_waitpid(child, os.WNOHANG)[0]:
                    self._children.remove(child)
            except ChildProcessError:
                self._children.remove(child)

    def _kill_child_of(self, attempt: LiveAttempt) -> None:
        """End the child of an attempt that is killed while it is suspended."""
        found = self._channels.pop(attempt, None)
        if found is not None and found[1] in self._children:
            channel, child = found
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, signal.SIGKILL)
            self._end(channel, child)

    def _end(self, channel: MessageChannel, child: int) -> None:
        channel.close()
        self._children.remove(child)
        with contextlib.suppress(ChildProcessError):
            real_waitpid(child, 0)

    def _serve(self, attempt: LiveAttempt, channel: MessageChannel, child: int) -> Any:
        """Answer a child until it ends."""
        simulation, loop = self._simulation, self._loop
        while True:
            message = channel.receive()
            what, *rest = message or ("died", "the process itself", -1)
            if what == "done":
                self._end(channel, child)
                return rest[0]
            if what == "failed":
                self._end(channel, child)
                raise rest[0]
            if what == "died":
                self._end(channel, child)
                seam, number = rest
                fault = simulation.placed_faults.ever[number] if number >= 0 else None
                if fault is not None:
                    fault.count(attempt.job.type.name)
                simulation.attempts.crash(attempt, seam, 0 if fault is None else fault.does.by_ns)
                loop.switcher.end_running(attempt)
            try:
                answer = getattr(self, f"_{what}")(attempt, *rest)
            except Exception as error:
                answer = (_THROWN, _portable(error), loop.now)
            else:
                answer = (_GIVEN, answer, loop.now)
            channel.send(answer)

    # --- what a child asks for ----------------------------------------------------------------------

    @contextlib.contextmanager
    def _without_seams(self) -> Iterator[None]:
        """Pass no seams inside the block: the child has passed them."""
        fault_hook, self._loop.fault_hook = self._loop.fault_hook, None
        try:
            yield
        finally:
            self._loop.fault_hook = fault_hook

    def _sleep(self, attempt: LiveAttempt, ns: int) -> None:
        with self._without_seams():
            self._loop.sleep(ns)

    def _effect(self, attempt: LiveAttempt, name: str, key: Any, outcome: str, data: dict[str, Any]) -> None:
        self._simulation.effects.write(name, key, outcome, data, attempt)

    def _operation(self, attempt: LiveAttempt, name: str, operation: str, key: Any, data: dict[str, Any]) -> Any:
        with self._without_seams():
            return self._services[name].redo(operation, key, data)

    def _enqueue(self, attempt: LiveAttempt, name: str, args: Any, kwargs: Any, due: int, rest: tuple[Any, ...]) -> int:
        broker = self._simulation.broker
        queue, priority, key, copies_arguments = rest
        with self._without_seams():
            job = broker.enqueue(broker.types[name], args, kwargs, max(due, self._loop.now), queue, priority, key)
        job.copies_arguments = copies_arguments
        return job.number

    def _record(self, attempt: LiveAttempt, what: str, detail: Any) -> None:
        if what == "progress":
            attempt.job.progress = detail
        self._simulation.history.record(what, attempt.job, attempt.number, detail)

    def _remember(self, attempt: LiveAttempt, name: str, value: Any) -> None:
        self._simulation.remembered_steps.of(attempt.job)[name] = value


class _Child:
    """The rig as the child sees it: its own copy, which forwards everything to the parent."""

    def __init__(self, simulation: Simulation, channel: MessageChannel, attempt: LiveAttempt) -> None:
        self._simulation = simulation
        self._loop = simulation.loop
        self._channel = channel
        self._attempt = attempt

    def live(self, forget_asyncio_loops: Callable[[], None]) -> NoReturn:
        """Run the attempt, and end the process."""
        simulation = self._simulation
        code = 0
        gc.freeze()  # a collection would touch, and so copy, every page that is shared with the parent
        try:
            forget_asyncio_loops()
            self._loop.sleep = self._sleep  # type: ignore[method-assign]
            self._loop.wait = self._wait  # type: ignore[method-assign]
            self._loop.decisions = None
            simulation.history.forward = lambda what, detail: self._ask("record", what, detail)
            simulation.effects.forward = lambda *effect: self._ask("effect", *effect)
            simulation.effects.forward_operation = self._operation
            simulation.broker.listeners[:] = [self._enqueued]
            simulation.remembered_steps.on_done = lambda name, value: self._ask("remember", name, value)
            simulation.host.in_child = self
            try:
                last: tuple[Any, ...] = ("done", simulation.attempts.call(self._attempt))
            except BaseException as error:
                last = ("failed", _portable(error))
            sys.stdout.flush()
            sys.stderr.flush()
            try:
                self._channel.send(last)
            except (pickle.PicklingError, TypeError, AttributeError) as error:
                job = self._attempt.job.id
                words = f"the result of {job} cannot be sent from its forked child: {error}; return plain data"
                self._channel.send(("failed", PayloadError(words)))
        except BaseException:
            code = 1
        finally:
            end_process(code)

    def _ask(self, *message: Any) -> Any:
        self._channel.send(message)
        answer = self._channel.receive()
        if answer is None:
            end_process(1)  # the parent has ended this attempt
        how, value, self._loop.now = answer
        self._loop.forget_values()
        if how == _THROWN:
            raise value
        return value

    def _sleep(self, ns: int, *, is_seam: bool = True) -> None:
        if self._loop.fault_hook is not None and is_seam:
            self._loop.fault_hook("sleep")
        self._ask("sleep", ns)

    def _wait(self, ready: Callable[[], Any], until_ns: int | None = None) -> bool:
        if not ready():
            if until_ns is None:
                raise StuckError(
                    f"{self._attempt.job.id} waits in a forked child, and nothing there can end the wait; give it a "
                    "timeout, or use a crash without hard=True"
                )
            self._ask("sleep", max(0, until_ns - self._loop.now))
        return bool(ready())

    def _operation(self, service: Any, operation: str, key: Any, data: dict[str, Any]) -> Any:
        name = f"{service.name}.{operation}"
        fault_hook = self._loop.fault_hook
        if fault_hook is not None:
            fault_hook(f"before {name}")
        answer = self._ask("operation", service.name, operation, key, data)
        if fault_hook is not None:
            fault_hook(f"after {name}")
        return answer

    def _enqueued(self, job: LiveJob) -> None:
        rest = (job.queue, job.priority, job.key, job.copies_arguments)
        job.renumber(self._ask("enqueue", job.type.name, job.args, job.kwargs, job.due_ns, rest))

    def die(self, seam: str, strike: Strike) -> NoReturn:
        """End the process at a seam."""
        placed = self._simulation.placed_faults.ever
        number = next((number for number, fault in enumerate(placed) if fault.does is strike), -1)
        self._channel.send(("died", seam, number))
        end_process(70)


def _portable(error: BaseException) -> BaseException:
    """Return an error that can be sent to another process."""
    try:
        pickle.loads(pickle.dumps(error))
    except Exception:
        return RuntimeError(f"{type(error).__name__}: {error}")
    return error
