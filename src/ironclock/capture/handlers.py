"""Handlers: the application's functions that handle one job each. Each call by a worker loop is an attempt."""

from __future__ import annotations

import inspect
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from contextlib import asynccontextmanager, contextmanager
from typing import TYPE_CHECKING, Any

from ..errors import StuckError, TapError, nearest
from ..simulation.delivery import DELIVERIES_LIMIT
from ..simulation.faults.kind import Operation, Passing, Strike, Subject, subject_of
from ..simulation.faults.seam_faults import FOR_EVER, wait_in_code, wait_in_coroutine
from ..simulation.jobs import LiveAttempt, LiveJob
from .awaited import followed, is_awaited, is_future
from .targets import Replacement, find

if TYPE_CHECKING:
    from .worker_loops import LiveLoop, WorkerLoops


class HandlerTap(Replacement):
    """A function that handles one job. Each call of it by a worker loop is an attempt. `Rig.handler` gives it."""

    def __init__(
        self, target: Any, loops: WorkerLoops, find: Callable[[Any], LiveJob | None], type_of: Callable[[str], Any],
        id: str | Callable[..., Any] | None, name: str | Callable[..., Any] | None,
    ) -> None:  # fmt: skip
        super().__init__(target)
        self._loops = loops
        self._find = find
        self._type_of = type_of
        signature = self.target.signature()
        self._id = _reader(id, "id", signature, self.target.label)
        self._name = _reader(name, "job", signature, self.target.label)
        self._default = getattr(self.target.real, "__name__", None) or type(self.target.real).__name__
        self._begins_when_awaited = False  # as far as its calls have shown
        self._jobs: dict[Any, LiveJob] = {}

    def replacement(self) -> Callable[..., Any]:
        return self._handle_later if self.target.is_async else self._handle

    async def _handle_later(self, *args: Any, **kwargs: Any) -> Any:
        loop = self._loops.running()
        if loop is None:
            return await self.target.real(*args, **kwargs)
        call = _Call(self, loop, args, kwargs)
        while call.goes_on():
            with call.attempted():
                call.starts()
                await call.wait_in_coroutine()
                call.result = await self.target.real(*args, **kwargs)
                call.ends()
            if call.again_after_ns and call.goes_on_later():
                await wait_in_coroutine(call.again_after_ns)
        return call.first_result

    def _handle(self, *args: Any, **kwargs: Any) -> Any:
        loop = self._loops.running()
        if loop is None:
            return self.target.real(*args, **kwargs)
        if self._begins_when_awaited:
            return self._handle_later(*args, **kwargs)
        call = _Call(self, loop, args, kwargs)
        while call.goes_on():
            with call.attempted():
                call.starts()
                call.wait()
                call.result = self.target.real(*args, **kwargs)
                call.is_awaited = is_awaited(call.result)
                if not call.is_awaited:
                    call.ends()
            if call.is_awaited:
                self._begins_when_awaited = not is_future(call.result)
                return followed(call.result, call.going_on)
            if call.again_after_ns and call.goes_on_later():
                self._loops.simulation.loop.sleep(call.again_after_ns, is_seam=False)
        return call.first_result

    def job_of(self, loop: LiveLoop, args: tuple[Any, ...], kwargs: dict[str, Any]) -> tuple[LiveJob, bool]:
        """Return the job that a call is about, and True if a row tells what becomes of it. Parameters: `loop` is the
        worker loop."""
        if self._id is None:
            claimed = loop.claimed()
            if claimed is not None:
                return claimed.job, True
        id = None if self._id is None else self._id(args, kwargs)
        job = None if id is None else self._find(id)
        if job is not None:
            return job, True
        name = self._default if self._name is None else str(self._name(args, kwargs))
        job = self._jobs.get((name, id)) if id is not None else None
        if job is None:
            now = self._loops.simulation.loop.now
            job = self._loops.observed.enter(self._type_of(name), args, kwargs, now)
            if id is not None:
                self._jobs[name, id] = job
        return job, False

    @property
    def loops(self) -> WorkerLoops:
        """The worker loops whose calls it follows."""
        return self._loops


class _Call:
    """One call of a handler by a worker loop. Faults can make several attempts of it."""

    def __init__(self, tap: HandlerTap, loop: LiveLoop, args: tuple[Any, ...], kwargs: dict[str, Any]) -> None:
        self._loops = tap.loops
        self._loop = loop
        self._job, self._told = tap.job_of(loop, args, kwargs)
        self._events = tap.loops.simulation.loop
        self._deliveries = 1
        self._attempts = 0
        self._began_ns = self._events.now
        self._doubles = 0  # how many of the deliveries that are left are doubles
        self._is_double = False
        self._waits: list[int] = []
        self._error: BaseException | None = None
        self.attempt: LiveAttempt | None = None
        self.result: Any = None
        self.first_result: Any = None
        self.again_after_ns = 0
        self.is_heard = True
        self.is_awaited = False
        """True if its work goes on when its result is awaited."""

    def goes_on(self) -> bool:
        """Return True if the message is delivered once more, and count that. Raises `StuckError` if it is delivered
        again and again at one instant."""
        self._deliveries -= 1
        if self._attempts > DELIVERIES_LIMIT and self._events.now == self._began_ns:
            raise self._events.stop(StuckError(
                f"{self._job.id} is delivered over {DELIVERIES_LIMIT} times at "
                f"{self._events.timeline.text(self._events.now)}, because nobody hears that it is done; give the fault "
                "attempts=..."
            ))  # fmt: skip
        self._is_double = self._doubles > 0
        self._doubles -= self._is_double
        return self._deliveries >= 0

    def goes_on_later(self) -> bool:
        """Return True if the message is delivered once more."""
        return self._deliveries > 0

    def starts(self) -> None:
        """Let the faults strike that strike before its code: not the second of two deliveries, as everywhere."""
        assert self.attempt is not None
        if not self._is_double:
            self._loops.simulation.judge.strike(_HandlerStarts(self, self.attempt))

    def ends(self) -> None:
        """Let the faults strike that strike after its code."""
        assert self.attempt is not None
        self._loops.simulation.judge.strike(_HandlerEnds(self, self.attempt))

    @asynccontextmanager
    async def going_on(self) -> AsyncIterator[None]:
        """Let the attempt go on while its result is awaited."""
        assert self.attempt is not None
        token = self._loop.push(self.attempt)
        try:
            yield
            self.ends()
        except BaseException as error:
            if not isinstance(error, self._events.switcher.exits):
                self._end(self.attempt, None, error)
            raise
        finally:
            self._loop.pop(self.attempt, token)
        self._end(self.attempt, None, None)

    @contextmanager
    def attempted(self) -> Iterator[None]:
        """Let the block be an attempt."""
        observed, again = self._loops.observed, self._attempts > 0
        attempt = self.attempt = self._begin(again)
        self._attempts += 1
        token = self._loop.push(attempt)
        try:
            yield
        except BaseException as error:
            if not isinstance(error, self._events.switcher.exits):
                self._end(attempt, None, error)
            if again and isinstance(error, Exception):
                return  # whoever has called it hears of the first delivery alone
            raise
        finally:
            self._loop.pop(attempt, token)
        if self.is_awaited:
            return  # it goes on
        self._end(attempt, self.result, None)
        if not again:
            self.first_result = self.result
        if self._deliveries > 0:
            observed.settle_unheard(attempt)

    def _begin(self, again: bool) -> LiveAttempt:
        observed, job = self._loops.observed, self._job
        running = job.running_attempt
        if running is not None and running in self._loop.open and not observed.is_handled(running):
            observed.handles(running)  # its row has shown already that the loop works on it
            return running
        return observed.begin(job, self._loop, by_handler=True, delivery_told=again)

    def _end(self, attempt: LiveAttempt, result: Any, error: BaseException | None) -> None:
        if attempt in self._loop.open:
            self._loop.open.remove(attempt)  # its code is over
            is_heard, self.is_heard = self.is_heard, True
            self._loops.observed.code_ended(attempt, result, error, self._told, is_heard)
            if not is_heard:
                self._loops.simulation.history.record("ack-lost", attempt.job, attempt.number)

    # --- what faults do to it -----------------------------------------------------------------------

    def crash(self, seam: str, strike: Strike) -> None:
        """Let the loop die."""
        task = self._events.current
        assert task is not None
        self._loops.simulation.attempts.crash_at_seam(task, seam, strike)

    def deliver_again(self, after_ns: int) -> None:
        """Let the handler be called once more, when this call has returned."""
        self._deliveries += 1
        self._doubles += 1
        self.again_after_ns = after_ns
        self._loops.simulation.history.record("delivered-twice", self._job, self._job.attempts_made)

    def lose_ack(self) -> None:
        """Let the queue not hear that the attempt is done: it delivers the job again."""
        self._deliveries += 1
        self.is_heard = False

    def will_wait(self, ns: int | None) -> None:
        """Let the call wait before the code of its handler. None: without an end."""
        self._waits.append(FOR_EVER if ns is None else ns)

    def fails_with(self, error: BaseException) -> None:
        """Let the call fail before the code of its handler."""
        self._error = error

    def wait(self) -> None:
        """Wait, and fail, as faults say."""
        waits, self._waits = self._waits, []
        for ns in waits:
            wait_in_code(self._events, ns)
        self._fail()

    async def wait_in_coroutine(self) -> None:
        """Wait, and fail, as faults say, and let the other coroutines of the loop go on."""
        waits, self._waits = self._waits, []
        for ns in waits:
            await wait_in_coroutine(ns)
        self._fail()

    def _fail(self) -> None:
        error, self._error = self._error, None
        if error is not None:
            raise error


class _OfHandler(Passing):
    """A call of a handler passes a seam."""

    attempt: LiveAttempt

    def __init__(self, call: _Call, attempt: LiveAttempt, seam: str) -> None:
        super().__init__(seam, attempt.label, attempt)
        self._call = call

    def subjects(self) -> list[Subject]:
        loop = self.attempt.loop
        assert loop is not None
        return [subject_of(attempt, attempt.visit(self.seam)) for attempt in loop.subjects(self.attempt)]

    def crash(self, strike: Strike) -> None:
        self.over = True
        self._call.crash(self.seam, strike)


class _HandlerStarts(_OfHandler):
    """A handler is called, and its code has not begun."""

    can: frozenset[Operation] = frozenset({"fail", "wait", "crash", "deliver_again"})
    why_not = "where a fault of this kind needs one of the rig's own workers"

    def __init__(self, call: _Call, attempt: LiveAttempt) -> None:
        super().__init__(call, attempt, "start")

    def fail(self, error: BaseException, after_ns: int = 0) -> None:
        if after_ns:
            self._call.will_wait(after_ns)
        self._call.fails_with(error)
        self.over = True

    def wait(self, ns: int | None) -> None:
        self.over = ns is None
        self._call.will_wait(ns)

    def deliver_again(self, after_ns: int) -> None:
        self._call.deliver_again(after_ns)


class _HandlerEnds(_OfHandler):
    """The code of a handler has returned."""

    can: frozenset[Operation] = frozenset({"crash", "lose_ack"})

    def __init__(self, call: _Call, attempt: LiveAttempt) -> None:
        super().__init__(call, attempt, "ack")

    def lose_ack(self) -> None:
        self._call.lose_ack()


def table_of(target: Any) -> dict[str, Any] | None:
    """Return the functions of a table of handlers by name. None if the target is no table.

    Parameters: `target` is a mapping of names to functions, or its import path. A class, or an object, stands for its
    method `run`. Raises `TapError` for anything else in the table.
    """
    table = find(target)[2] if isinstance(target, str) else target
    if not isinstance(table, Mapping):
        return None
    functions = {}
    for name, handler in table.items():
        function = handler if callable(handler) and not inspect.isclass(handler) else getattr(handler, "run", None)
        if not callable(function):
            raise TapError(
                f"the handler of {name!r} is {handler!r}, which cannot be called and has no method run; give functions"
            )
        functions[str(name)] = function
    return functions


def _reader(
    given: str | Callable[..., Any] | None, what: str, signature: inspect.Signature | None, label: str
) -> Callable[[tuple[Any, ...], dict[str, Any]], Any] | None:  # fmt: skip
    """Return a function of the arguments of a call. Raises `TapError` if its parameter does not exist."""
    if given is None:
        return None
    if callable(given):
        function = given
        return lambda args, kwargs: function(*args, **kwargs)
    if signature is None or given not in signature.parameters:
        known = () if signature is None else tuple(signature.parameters)
        raise TapError(f"{what} is {given!r}, and {label} has no such parameter; {nearest(given, known)}")
    known_signature, name = signature, given
    return lambda args, kwargs: known_signature.bind(*args, **kwargs).arguments.get(name)
