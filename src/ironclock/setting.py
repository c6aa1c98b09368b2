"""Setting a rig up: everything a test says of its world before the clock moves."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, Literal, TypeVar, get_args

from .capture.effect import Act
from .capture.intake import Intake
from .capture.payload import Payload, check_payload, through_json
from .capture.readings import Reading
from .capture.taps import Tap
from .capture.targets import InPlace
from .core.admission import Conditions
from .core.durations import Duration, signed_ns, to_ns
from .core.engine import Engine
from .core.errors import InputError, RigStateError
from .core.faults import Faults
from .core.flow import Flow
from .core.jobs import Attempt
from .core.policy import Call, JobType, Policy
from .core.pool import Pool
from .core.queues import QueueControl
from .core.resource import Resource
from .core.retry import Retry
from .core.signals import Signals
from .core.spreads import Spread
from .core.timeline import Instant
from .schedules.base import Schedule
from .schedules.sets import Jitter, Within
from .schedules.timetable import Missed, Overlap, Scheduled, Timetable

if TYPE_CHECKING:
    import httpx

    from .capture.collector import Collector
    from .capture.endpoint import Endpoint
    from .capture.outbox import Columns, Outbox
    from .host.threads import Threads
    from .stands.base import Stand

StandType = TypeVar("StandType", bound="Stand")


class Setting:
    """The part of a rig that sets its world up."""

    _engine: Engine
    _intake: Intake
    _policy: Policy
    _signals: Signals
    _stands: dict[str, Any]
    _taps: list[InPlace]
    _thread: int | None
    _threads: Threads
    schedules: Timetable

    # --- jobs and workers ---------------------------------------------------------------------------

    def job(
        self, fn: Callable[..., Any], *, name: str | None = None, queue: str | None = None,
        retry: Retry | None = None, timeout: Duration | None = None, priority: int | None = None,
        takes: Duration | Spread | Mapping[str, Any] | None = None, lease: Duration | None = None,
        ack: Literal["late", "early"] | None = None,
        deliveries: int | None = None, key: str | Callable[..., Any] | None = None,
        unique: Literal["refuse", "replace", "keep"] | None = None, expires: Duration | None = None,
        only_while: Iterable[str] | None = None, scope: Callable[[], AbstractContextManager[Any]] | None = None,
    ) -> JobType:  # fmt: skip
        """Return a job type: `fn` under a name (its own, unless given) with a policy. See `Policy`.

        Raises `InputError` for what cannot be called and for a name that another callable has.
        """
        policy = self._policy.but(
            queue=queue, retry=retry, timeout=timeout, priority=priority, takes=takes, lease=lease, ack=ack,
            deliveries=deliveries, key=key, unique=unique, expires=expires, scope=scope,
            only_while=only_while if only_while is None or isinstance(only_while, str) else tuple(only_while),
        )  # fmt: skip
        return self._intake.register(fn, name, policy)

    def workers(
        self, count: int = 1, *, queues: Mapping[str, int] | Iterable[str] | None = None, skew: Duration = 0
    ) -> None:
        """Add workers, a pool of their own. `queues`: a list means strict order, a mapping of name to weight shares
        them by weight, none serves every queue. `skew` is how far the wall clock of their hosts is ahead (text may
        begin with a minus). A rig without this call has one worker for everything.

        Raises `PolicyError`, or `RigStateError` where a queue has its workers already.
        """
        self._engine.add_pool(Pool(count, queues, signed_ns(skew, what="skew")))

    def queue(self, name: str) -> QueueControl:
        """Return the control of a queue: `pause`, `resume`, `limit`, `depth`. Raises `PolicyError` for a queue that
        no worker serves."""
        return self._engine.controls.of(name)

    def resource(self, name: str, size: int, *, timeout: Duration | None = None) -> Resource:
        """Return a bounded resource, such as a database pool: ``with pool.take():`` in a job waits for a place.

        `timeout` is how long a job waits at most unless it says otherwise. Raises `PolicyError`.
        """
        return Resource(self._engine, name, size, timeout)

    @property
    def conditions(self) -> Conditions:
        """The conditions of the world that job types name with `only_while`: ``.off(name)``, ``.on(name)``."""
        return self._engine.admission.conditions

    @property
    def faults(self) -> Faults:
        """What is made to go wrong."""
        return self._engine.faults

    def around_enqueue(self, hook: Callable[[Call], AbstractContextManager[Any]]) -> None:
        """Put a context manager around every enqueue. Hooks nest in the order they were added, the first outermost;
        an error passes through them on its way out."""
        self._engine.around_enqueue.append(hook)

    def around_attempt(self, hook: Callable[[Attempt], AbstractContextManager[Any]]) -> None:
        """Put a context manager around the code of every attempt. See `around_enqueue`; a job's own `scope` is the
        innermost."""
        self._engine.around_attempt.append(hook)
        self._engine.rearm()

    # --- what follows from what ---------------------------------------------------------------------

    def flow(self, name: str) -> Flow:
        """Return an empty flow; `add` its steps and `start` it."""
        if not isinstance(name, str) or not name:
            raise InputError(f"the flow's name is {name!r}; give text")
        return Flow(self._engine, name, self._intake.enqueue)

    def listen(self, event: str, job: JobType, *, after: Duration | None = None) -> None:
        """Let every `emit` of an event enqueue a job of this type, with the event's arguments."""
        self._signals.listen(event, job, after)

    # --- the world outside --------------------------------------------------------------------------

    def stand(self, stand: StandType) -> StandType:
        """Put a stand into the rig; return it. Raises `RigStateError` where it, or its name, is there already."""
        if not hasattr(stand, "attach"):
            raise InputError(f"{stand!r} is no stand; give ic.stands.Mail() or another")
        if stand.name in self._stands:
            raise RigStateError(f"the rig has a stand {stand.name!r} already; give this one another name")
        stand.attach(self._engine)
        self._stands[stand.name] = stand
        return stand

    def effect(self, name: str, target: Any, *, key: str | Callable[..., Any] | None = None) -> Act:
        """Make a real function an effect while the rig is entered: each call is on record, with a seam before and
        after it. Returns a callable that does the same.

        Parameters: `target` an import path or the function; `key` what a call is about: a parameter's name, or a
        function of the arguments. Raises `InputError` or `TapError`.
        """
        made = Act(name, target, self._engine.effects, key)
        self._install(made)
        return made

    def tap(self, target: Any, *, reads: Reading, payload: Payload | None = None, also_real: bool = False) -> Tap:
        """Turn calls of a real callable into jobs while the rig is entered.

        Parameters: `target` an import path (``"tern_line.jobs:put"``) or the object itself; `reads` what a call
        asks for (`reading`, or a function of the real call's arguments that returns an `Enqueue`); `payload` as
        for the rig; `also_real` calls the real callable as well, and gives its answer back.
        Raises `TapError` where the target does not exist or cannot be replaced.
        """
        if payload is not None:
            check_payload(payload)
        made = Tap(target, reads, self._intake.order, payload or self._intake.payload, also_real)
        self._install(made)
        return made

    def collector(self, target: Any, *, on_error: Literal["stop", "go on"] = "stop") -> Collector:
        """Collect the functions that are added, during a request, to run after its response.

        Parameters: `target` the application's callable that adds one: a function first, then its arguments. What
        `rig.request` collected runs as one job, in order; `on_error` says whether one that raises stops the rest.
        """
        from .capture.collector import Collector

        made = Collector(target, self._engine.requests, on_error)
        self._install(made)
        return made

    def transaction_at(self, target: Any, *, joins: bool = True) -> Any:
        """Let a real function that returns a context manager (the application's ``atomic()``) open a transaction of
        the rig as well. `joins` as in `Rig.transaction`."""
        from .capture.atomic import Atomic

        made = Atomic(target, self._engine.transactions, joins)
        self._install(made)
        return made

    def outbox(
        self, connection: Any, *, table: str, columns: Columns, handlers: Any = None, where: str | None = None
    ) -> Outbox:
        """Capture what the application writes into its own job table. See `Outbox`."""
        from .capture.outbox import Outbox

        return Outbox(connection, table, columns, handlers, where, self._engine, self._intake)

    def web(self, app: Any) -> httpx.Client:
        """Return an `httpx.Client` whose requests lead to a WSGI or ASGI application, in process.

        A response is there at the instant it is sent; what the application does after that goes on in simulated
        time. Needs the extra ``ironclock[http]``, and an entered rig.
        """
        from .capture.web import client

        return client(app, self._engine, self._threads)

    def endpoint(self, app: Any, path: str, **options: Any) -> Endpoint:
        """Return an endpoint of the application that jobs are pushed to as HTTP requests. See `Endpoint`; needs the
        extra ``ironclock[http]``, and an entered rig."""
        from .capture.endpoint import Endpoint

        return Endpoint(app, path, self._engine, self._intake, self.web, **options)

    def _install(self, made: InPlace) -> None:
        if any(tap.target.same(made.target) for tap in self._taps):
            raise RigStateError(f"{made.target.label} has a tap already")
        self._taps.append(made)
        if self._thread is not None:
            made.install()

    # --- schedules ----------------------------------------------------------------------------------

    def schedule(
        self, name: str, call: Call, schedule: Schedule, *, overlap: Overlap = "allow", missed: Missed = "last",
        poll: Duration | None = None, jitter: Duration | None = None, starts: Instant | None = None,
        ends: Instant | None = None, until_done: bool = False,
    ) -> Scheduled:  # fmt: skip
        """Run a call on a schedule, in place of the schedule of the same name where there is one.

        Parameters: `overlap` what a firing does while the run before is still open (``"allow"``, ``"skip"``,
        ``"wait"`` for its end); `missed` which firings run after the scheduler was down (``"all"``, ``"last"``,
        ``"none"``); `poll` how often the scheduler looks: a firing starts at the next look; `jitter` the span by
        which firings are late at random; `starts` (included) and `ends` (not included) bound it; `until_done`
        removes it after its first run that is done. A firing that is due at this very instant counts.
        Raises `InputError`, `UnknownJob`, `PayloadError`, `DurationError`, `InstantError`.
        """
        if not isinstance(name, str) or not name:
            raise InputError(f"name is {name!r}; give text")
        if not isinstance(schedule, Schedule):
            raise InputError(f"{schedule!r} is no schedule; give ic.cron(...), ic.every(...) or another")
        for what, value, known in (("overlap", overlap, get_args(Overlap)), ("missed", missed, get_args(Missed))):
            if value not in known:
                raise InputError(f"{what} is {value!r}; give one of {', '.join(known)}")
        call = self._intake.must_know(call, "schedule")
        if self._intake.payload == "json":
            through_json(call.type.name, call.args, call.kwargs)
        timeline = self._engine.timeline
        bound = schedule.in_zone(timeline.zone).begun(self._engine.now)
        if starts is not None or ends is not None:
            bounds = [None if b is None else timeline.ns(b) for b in (starts, ends)]
            bound = Within(bound, *bounds)
        late = None if jitter is None else Jitter(to_ns(jitter, what="jitter"), f"{self._engine.seed}:{name}")
        poll_ns = 0 if poll is None else to_ns(poll, what="poll")
        made = Scheduled(self.schedules, name, call, bound, overlap, missed, poll_ns, late, until_done)
        self.schedules.add(made)
        self._engine.requests.added(name)
        return made
