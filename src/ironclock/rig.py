"""The rig: the one object that a test holds. It connects the parts, and has no logic."""

from __future__ import annotations

import contextlib
import datetime as dt
import threading
from collections import Counter
from collections.abc import Callable, Collection, Coroutine, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager, ExitStack, nullcontext
from types import CodeType, TracebackType
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, ParamSpec, TypeVar, TypeVarTuple, Unpack, overload

from .capture.effect_taps import EffectTap
from .capture.events import Events
from .capture.job_registry import JobRegistry
from .capture.outside_calls import OutsideCall
from .capture.payload import Payload, check_payload, through_json
from .capture.readings import Reading
from .capture.taps import Tap
from .capture.targets import Replacement, TargetLike
from .errors import InputError, InstantError, PolicyError, RigStateError, UnknownJob
from .foundation.durations import NS, Duration, signed_ns, to_ns
from .foundation.instants import Instant, Timeline
from .foundation.other_words import must_not_be_set, no_attribute
from .foundation.source_location import calling, frame_of_caller
from .history.attention import LooseEnd
from .history.history import History
from .interpreter import installation
from .interpreter.border import signals
from .interpreter.border.border import Border
from .interpreter.border.call_seams import checked_seams
from .interpreter.entered_rig import EnteredRig
from .interpreter.local_zone import local_zone
from .interpreter.patching.clock_functions import ClockFunctions
from .interpreter.running_loop import advance_async, running_loop, settle_async
from .interpreter.tasks.greenlets import GreenletSwitcher
from .interpreter.tasks.simulated_threads import Mode, SimulatedThreads
from .interpreter.tasks.watched_threads import watch_locks_here
from .laws.law import Law, World, check
from .observers import observers
from .rig_host import RigHost
from .simulation.admission import Conditions
from .simulation.decisions import Decisions
from .simulation.effects import Effects
from .simulation.event_loop import ONE_EVENT
from .simulation.faults.placing import Faults
from .simulation.job_sets import DeadLetters, JobSet, chosen
from .simulation.jobs import Attempt, Job, LiveJob, State
from .simulation.policy import Call, JobLike, JobType, Policy, PolicyKeywords, name_of
from .simulation.pools import Pool
from .simulation.queues import QueueControl
from .simulation.requests import Request
from .simulation.resources import Resource
from .simulation.retry import Retry
from .simulation.simulation import Simulation
from .simulation.transactions import Transaction
from .simulation.workflows import Workflow

if TYPE_CHECKING:
    import httpx

    from .capture.collector import Collector
    from .capture.deployments import Deployment, Version
    from .capture.endpoint import Endpoint, EndpointKeywords
    from .capture.handlers import HandlerTap
    from .capture.outbox import Columns, Handlers, Outbox
    from .capture.transaction_taps import TransactionTap
    from .capture.web import Application
    from .capture.worker_loops import LoopGroup, WorkerLoops
    from .history.approval import Approval
    from .interpreter.databases.contents import Contents
    from .interpreter.databases.given import Server
    from .schedules.schedule import Schedule
    from .schedules.timetable import Missed, Overlap, Scheduled, Timetable
    from .search.replay import Replay
    from .services.key_value_server import KeyValueServer
    from .services.service import Service

P = ParamSpec("P")
R = TypeVar("R")
Ts = TypeVarTuple("Ts")
ServiceType = TypeVar("ServiceType", bound="Service")
DecisionsType = TypeVar("DecisionsType", bound=Decisions)


class _Database(NamedTuple):
    """A database server whose clock follows."""

    server: Server | None
    """None if it is not known yet: the code under test says it."""
    find: Callable[[], Server]
    when_used: bool


class PutIn(NamedTuple):
    """How much of each kind a rig has that a test puts in: it is idle if the test itself has put it in."""

    taps: int = 0
    schedules: int = 0
    policies: int = 0


class Rig:
    """A simulated world for one test: clock, queues, workers, schedules, faults and history.

    While a rig is entered (``with rig:``, or with the `rig` fixture), the clock functions of this thread follow the
    rig's clock, and its taps are in place.

    Parameters:

    - `start`: the instant at which it begins. Default ``"2031-03-03T09:00"``.
    - `zone`: the time zone in which text and naive local time are read: a tz database name or a `tzinfo`. ``"local"``:
      the application's own: Django's ``TIME_ZONE``, else the variable ``TZ``, else that of the system. Default UTC.
    - `seed`: a whole number or text. Every random choice of the rig follows from it. Default 0.
    - `policy`: how a job is treated if its job type does not say otherwise. Default ``Policy()``.
    - `payload`: ``"json"`` (the default) refuses arguments that do not survive JSON; ``"any"`` takes them all.
    - `threads`: ``"simulated"`` (the default, None): threads that are started in the rig run in simulated time.
      ``"real"``: they run in real time. A debugger's threads are real always.
    - `strict`: True makes it an error for a job to open a socket, or to start a thread unless `threads` is given.
      False: jobs can do that. Default None: they can, and a test is warned if a job reaches another machine.
    - `allow`: kinds of loose ends (`loose_ends`) that do not matter here. Default: none.
    - `judged`: False: a test that makes this rig does not fail because of its loose ends. Default True.
    - `stuck_after`: after how many real seconds in which nothing moves a run ends with `StuckError`. Default ``"20s"``.
    - `seams`: kinds of real calls at which faults can strike, without a change to the code: ``"sql"`` (statements and
      commits), ``"redis"`` (commands, pipelines and scripts that change something), ``"files"`` (open, write, rename,
      fsync, remove), ``"http"`` (requests), ``"sockets"`` (connect, send). Their seams are called ``before sql INSERT
      seats``, ``after redis LREM processing``, ``after http PUT /manifests``, ``halfway file write fares.csv`` and so
      on. Default: none.

    Raises `InputError`, or one of its subclasses, for a value that cannot be used.

    Example::

        with ic.Rig(start="2031-03-29T21:00", zone="Atlantic/Faroe") as rig:
            manifest = rig.job(submit_manifest, retry=ic.Retry(attempts=3, wait=ic.exponential("1m")))
            job = rig.enqueue(manifest.call("TL-204"), after="15m")
            rig.advance("1h")
            assert job.state == "done"
    """

    def __init__(
        self, start: Instant = "2031-03-03T09:00", zone: dt.tzinfo | str = "UTC", seed: int | str = 0,
        policy: Policy | None = None, payload: Payload = "json", threads: Mode = None, strict: bool | None = None,
        stuck_after: Duration = "20s", allow: Iterable[LooseEnd] = (), seams: str | Collection[str] = (),
        judged: bool = True,
    ) -> None:  # fmt: skip
        if isinstance(seed, bool) or not isinstance(seed, (int, str)):
            raise InputError(f"seed is {seed!r}; give a whole number or text")
        if policy is not None and not isinstance(policy, Policy):
            raise PolicyError(f"policy is {policy!r}; give an ic.Policy(...)")
        if strict is not None and not isinstance(strict, bool):
            raise InputError(f"strict is {strict!r}; give True or False")
        if not isinstance(judged, bool):
            raise InputError(f"judged is {judged!r}; give True or False")
        if threads not in (None, "simulated", "real"):
            raise InputError(f"threads is {threads!r}; give 'simulated', 'real' or None")
        timeline = self._timeline = Timeline(local_zone() if zone == "local" else zone)
        # The simulation, and what moves it in this interpreter.
        switcher = self._switcher = GreenletSwitcher()
        host = self._host = RigHost()
        simulation = self._simulation = Simulation(timeline, timeline.ns(start, what="start"), seed, switcher, host)
        self._loop = simulation.loop
        simulation.attention.allow(allow)
        simulation.attention.is_judged = judged
        self._threads = SimulatedThreads(simulation.loop, simulation.history, switcher.held_locks, threads, strict)
        self._threads.note_error = simulation.attention.raised
        self._stuck_after_s = to_ns(stuck_after, what="stuck_after") / NS
        self._seams = simulation.real_seams = checked_seams(seams)
        self._border: Border | None = None
        self._clock_functions: ClockFunctions | None = None
        self._entered: EnteredRig | None = None
        simulation.loop.enter_thread = switcher.enter_thread = self._threads.states.enter
        self._threads.states.before_drop = switcher.note_running_asyncio_loop
        # What brings jobs in.
        self._policy = policy or _DEFAULT_POLICY
        self._registry = JobRegistry(simulation.loop, simulation.broker, self._policy, payload)
        self._events = Events(simulation.history, self._registry.enqueue)
        self._services: dict[str, Service] = {}
        self._taps: list[Replacement] = []
        self._taken_away: list[Replacement] = []
        self._policies: dict[str, str] = {}  # by job type with a policy of its own, where it was made
        self._databases: list[_Database] = []
        self._outboxes: list[Outbox] = []
        self._loops: WorkerLoops | None = None
        self._timetable: Timetable | None = None
        # Who has entered it, and on whose behalf.
        self._thread: int | None = None
        self._depth = 0  # how often it is entered, one inside the other
        self._holds = 0  # how many of these are a test runner's, which closes it at the end
        self._replay: Replay | None = None

        host.begin(simulation, self._threads, self._taps, self._outboxes, self._services)
        simulation.attempts.on_death.append(self._threads.end_with)
        self._approval: Approval | None = None
        for observer in observers:
            self._approval = observer(self) or self._approval

    # --- jobs and workers ---------------------------------------------------------------------------

    @overload
    def job(
        self, fn: Callable[P, Coroutine[Any, Any, R]], *, name: str | None = ..., **policy: Unpack[PolicyKeywords]
    ) -> JobType[P, R]: ...
    @overload
    def job(self, fn: Callable[P, R], *, name: str | None = ..., **policy: Unpack[PolicyKeywords]) -> JobType[P, R]: ...
    def job(
        self, fn: Callable[..., Any], *, name: str | None = None, **policy: Unpack[PolicyKeywords]
    ) -> JobType[..., Any]:
        """Return a job type: a callable with its policy, under a name.

        Parameters:

        - `fn`: the function, or any callable, sync or async.
        - `name`: its name in the rig. Default: the function's own name.
        - `policy`: `queue`, `retry`, `timeout`, `priority`, `takes`, `lease`, `ack`, `deliveries`, `key`, `unique`,
          `expires`, `only_while`, `scope`, as in `Policy`. Default None: as the policy of the rig says.

        Raises `InputError` for something that cannot be called, and for a name that another callable has; `PolicyError`
        or `DurationError` for a policy that cannot be used.

        Example::

            charge = rig.job(charge_fare, queue="desk", timeout="30s", retry=ic.Retry(attempts=3))
            rig.enqueue(charge.call("TL-204", 3))
        """
        made = self._registry.register(fn, name, self._policy.changed(**policy))
        if policy:
            self._policies.setdefault(made.name, calling())
        return made

    def workers(
        self, count: int = 1, *, queues: Mapping[str, int] | Iterable[str] | None = None, skew: Duration = 0
    ) -> None:
        """Add workers. Without this call a rig has one worker for all queues.

        Parameters:

        - `count`: how many. Default 1.
        - `queues`: the queues that they serve. A list is served in strict order, a mapping of name to weight by weight.
          Default None: every queue.
        - `skew`: how far the wall clock of their hosts is ahead; text can begin with a minus. Default 0.

        Raises `PolicyError`, and `RigStateError` if a queue has workers already.

        Example::

            rig.workers(2, queues={"harbour": 7, "desk": 1})
        """
        self._simulation.add_pool(Pool(count, queues, signed_ns(skew, what="skew")))

    def queue(self, name: str) -> QueueControl:
        """Return the control of a queue: `pause`, `resume`, `limit`, `depth`.

        Parameters: `name` is the name of the queue. Raises `PolicyError` for a queue that no worker serves.

        Example::

            rig.queue("default").pause()
            rig.enqueue(manifest.call("TL-204"))
            rig.advance("1h")
            assert rig.queue("default").depth == 1
        """
        return self._simulation.queue_controls.of(name)

    def resource(self, name: str, size: int, *, timeout: Duration | None = None) -> Resource:
        """Return a bounded resource, such as a database pool.

        Parameters:

        - `name`: its name.
        - `size`: how many places it has.
        - `timeout`: how long a job waits for a place, unless it says otherwise. Default None: for ever.

        Raises `PolicyError`. Example::

            pool = rig.resource("database", 2)

            def job():
                with pool.take():
                    time.sleep(1)
        """
        simulation = self._simulation
        return Resource(simulation.loop, simulation.history, simulation.attempts.on_death, name, size, timeout)

    @property
    def schedules(self) -> Timetable:
        """The schedules by name: ``rig.schedules["close-till"]``."""
        if self._timetable is None:  # to import what reads schedules takes long, and many rigs have none
            from .schedules.timetable import Timetable

            simulation = self._simulation
            self._timetable = Timetable(
                simulation.loop, simulation.history, simulation.broker, simulation.judge, simulation.seed
            )
        return self._timetable

    @property
    def conditions(self) -> Conditions:
        """The conditions that job types name with `only_while`: ``.off(name)``, ``.on(name)``."""
        return self._simulation.broker.admission.conditions

    @property
    def faults(self) -> Faults:
        """What is made to go wrong."""
        return self._simulation.faults

    def deploy(
        self, *, old: object, new: object, over: Duration = "5m",
        chooses: Callable[[Attempt], Version] | None = None,
    ) -> Deployment:  # fmt: skip
        """Begin a rolling deployment: for a while, two versions of handlers work one queue, and either takes any job.

        Each attempt is taken by the old or the new version, with equal chances that are drawn from the rig's seed. The
        probe tries the other version of each attempt. When the time is over, the new version takes all.

        Parameters:

        - `old`, `new`: a function each; or a mapping of the names of jobs to functions; or a module (any object) with
          functions of the names of those job types of the rig that are meant. A job that only one version knows fails
          in the other one with `UnknownJob`.
        - `over`: how long both versions are there. Default ``"5m"``.
        - `chooses`: a function of the `Attempt` that returns ``"old"`` or ``"new"``. Default None: equal chances.

        The jobs can be enqueued with the arguments of either version. Raises `InputError` if the two versions have no
        job in common with the rig, `PolicyError` or `DurationError`.

        Example::

            def charge_fare_3(booking, seats=1, deck="car"):
                return seats

            charge = rig.job(charge_fare, retry=ic.Retry(attempts=5, wait="1m"))
            rig.deploy(old=charge_fare, new=charge_fare_3, over="5m")
            rig.enqueue(charge.call("TL-204"))
            rig.run_dry()
        """
        from .capture.deployments import Deployment, handlers_of

        if chooses is not None and not callable(chooses):
            raise InputError(f"chooses is {chooses!r}; give a function of the attempt that returns 'old' or 'new'")
        over_ns = to_ns(over, what="over")
        if over_ns == 0:
            raise InputError(f"over is {over!r}; give how long both versions are there, such as '5m'")
        simulation = self._simulation
        handlers = handlers_of(old, new, simulation.broker.types, self.job)
        under_way = [name for name in handlers if simulation.broker.types[name].deployment is not None]
        if under_way:
            raise RigStateError(f"a deployment of {under_way[0]!r} is under way; begin the next one when it is over")
        types = {name: simulation.broker.types[name] for name in handlers}
        generator = simulation.generators.of("deploy")
        return Deployment(self._loop, simulation.history, handlers, types, over_ns, generator, chooses)

    def around_enqueue(self, hook: Callable[[Call[Any]], AbstractContextManager[Any]]) -> None:
        """Put a context manager around every enqueue.

        Parameters: `hook` gets the `Call` and returns a context manager. The first hook is the outermost. An error
        passes through all of them.

        Example::

            import contextlib

            @contextlib.contextmanager
            def counted(call):
                rig.note(f"{call.type.name} is enqueued")
                yield

            rig.around_enqueue(counted)
        """
        self._simulation.broker.around_enqueue.append(hook)

    def around_attempt(self, hook: Callable[[Attempt], AbstractContextManager[Any]]) -> None:
        """Put a context manager around the code of every attempt.

        Parameters: `hook` gets the `Attempt` and returns a context manager. The first hook is the outermost; the
        `scope` of the job type is inside all hooks.

        Example::

            import contextlib

            @contextlib.contextmanager
            def session(attempt):
                rig.note(f"a session for {attempt.job.id}")
                yield

            rig.around_attempt(session)
        """
        self._simulation.attempts.around.append(hook)
        self._simulation.decide_tracking()

    def on_worker_death(self, hook: Callable[[Attempt], None]) -> None:
        """Call a function when a worker dies: it does what the end of a process would do.

        A worker that dies loses its connections. Those of SQLite, psycopg, psycopg2, and Django are rolled back, and
        file locks are released, without this call. For anything else that belongs to a process, give a function.

        Parameters: `hook` gets the `Attempt` whose worker has died.

        Example::

            rig.on_worker_death(lambda attempt: broker_client.disconnect())
        """
        self._simulation.attempts.on_death.append(lambda attempt: hook(attempt.reader))

    def stop_workers(self, grace: Duration = 0, *, how: Literal["ask", "throw"] = "ask") -> None:
        """Shut the workers down. Jobs that were stopped before their end go back to their queues.

        Parameters:

        - `grace`: how long running jobs can still run. After it they are killed. Default 0.
        - `how`: ``"ask"`` (the default) lets running jobs find out with `cancelled`. ``"throw"`` raises
          `AttemptCancelled` where they wait.

        Raises `InputError` or `DurationError`.

        Example::

            rig.enqueue(rig.job(lambda: time.sleep(60), name="report").call())
            rig.advance("10s")
            rig.stop_workers(grace="30s")
            rig.advance("1m")
            assert rig.jobs("report").one().state == "ready"
        """
        if how not in ("ask", "throw"):
            raise InputError(f"how is {how!r}; give 'ask' or 'throw'")
        change = self._simulation.broker.change
        if change is not None and change.no_grace:
            grace = 0
        self._simulation.shutdown.stop_workers(to_ns(grace, what="grace"), how)
        if self._loops is not None:
            self._loops.stop(None, to_ns(grace, what="grace"))

    def start_workers(self) -> None:
        """Let the workers take jobs again.

        Example::

            rig.stop_workers()
            rig.enqueue(manifest.call("TL-204"))
            rig.advance("1h")
            rig.start_workers()
            rig.settle()
            assert rig.jobs("submit_manifest").one().state == "done"
        """
        self._simulation.shutdown.start_workers()
        if self._loops is not None:
            self._loops.start_all()

    # --- enqueueing ---------------------------------------------------------------------------------

    # The first overloads check the arguments of the job. A type checker cannot do that beside other keywords (PEP 612
    # leaves no room for them), so the others ask for one of these: an argument that is wrong matches none of them.
    @overload
    def enqueue(
        self, job: Call[R], /, *, after: Duration | None = ..., at: Instant | None = ..., queue: str | None = ...,
        priority: int | None = ..., key: object = ...,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(self, job: JobType[P, R], /, *args: P.args, **kwargs: P.kwargs) -> Job[R]: ...
    @overload
    def enqueue(self, job: Callable[P, Coroutine[Any, Any, R]], /, *args: P.args, **kwargs: P.kwargs) -> Job[R]: ...
    @overload
    def enqueue(self, job: Callable[P, R], /, *args: P.args, **kwargs: P.kwargs) -> Job[R]: ...
    @overload
    def enqueue(
        self, job: JobType[..., R] | Callable[..., Coroutine[Any, Any, R]], /, *args: Any, after: Duration | None,
        queue: str | None = ..., priority: int | None = ..., key: object = ..., retry: Retry | int | None = ...,
        **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(  # type: ignore[overload-cannot-match]
        self, job: Callable[..., R], /, *args: Any, after: Duration | None, queue: str | None = ...,
        priority: int | None = ..., key: object = ..., retry: Retry | int | None = ..., **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(
        self, job: JobType[..., R] | Callable[..., Coroutine[Any, Any, R]], /, *args: Any, at: Instant | None,
        queue: str | None = ..., priority: int | None = ..., key: object = ..., retry: Retry | int | None = ...,
        **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(  # type: ignore[overload-cannot-match]
        self, job: Callable[..., R], /, *args: Any, at: Instant | None, queue: str | None = ...,
        priority: int | None = ..., key: object = ..., retry: Retry | int | None = ..., **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(
        self, job: JobType[..., R] | Callable[..., Coroutine[Any, Any, R]], /, *args: Any, queue: str | None,
        priority: int | None = ..., key: object = ..., retry: Retry | int | None = ..., **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(  # type: ignore[overload-cannot-match]
        self, job: Callable[..., R], /, *args: Any, queue: str | None, priority: int | None = ..., key: object = ...,
        retry: Retry | int | None = ..., **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(
        self, job: JobType[..., R] | Callable[..., Coroutine[Any, Any, R]], /, *args: Any, priority: int | None,
        key: object = ..., retry: Retry | int | None = ..., **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(  # type: ignore[overload-cannot-match]
        self, job: Callable[..., R], /, *args: Any, priority: int | None, key: object = ...,
        retry: Retry | int | None = ..., **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(
        self, job: JobType[..., R] | Callable[..., Coroutine[Any, Any, R]], /, *args: Any, key: object,
        retry: Retry | int | None = ..., **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(  # type: ignore[overload-cannot-match]
        self, job: Callable[..., R], /, *args: Any, key: object, retry: Retry | int | None = ..., **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(
        self, job: JobType[..., R] | Callable[..., Coroutine[Any, Any, R]], /, *args: Any, retry: Retry | int | None,
        **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    @overload
    def enqueue(  # type: ignore[overload-cannot-match]
        self, job: Callable[..., R], /, *args: Any, retry: Retry | int | None, **kwargs: Any,
    ) -> Job[R]: ...  # fmt: skip
    def enqueue(  # type: ignore[misc]
        self, job: Any, /, *args: Any, after: Duration | None = None, at: Instant | None = None,
        queue: str | None = None, priority: int | None = None, key: object = None, retry: Retry | int | None = None,
        **kwargs: Any,
    ) -> Job[Any]:  # fmt: skip
        """Enqueue a call; return the job.

        Parameters:

        - `job`: a job type or a function, with its arguments after it; or a call: ``job_type.call(...)``.
        - `args`, `kwargs`: the arguments. For a parameter that has the name of one below, give a call.
        - `after`: a delay, or `at`: an instant. Default: due now.
        - `queue`, `priority`, `key`: in place of those of the policy.
        - `retry`: for a function that is not a job type yet: a `Retry`, or the number of attempts. Default None: as the
          policy of the rig says.

        Raises `InputError` for anything else, for arguments that the function does not take, for both `after` and
        `at`, and for an instant in the past; `UnknownJob` for a job type of another rig; `PayloadError` for arguments
        that do not survive JSON; `DuplicateJob` if the job type is unique and refuses a second job.

        Example::

            job = rig.enqueue(submit_manifest, "TL-204", after="15m")
        """
        try:
            if type(job) is Call and not args and not kwargs and retry is None:
                call = job
            else:
                call = self._registry.call_of(job, args, kwargs, self._policy if retry is None else retry)
            return self._registry.enqueue(call, after, at, queue, priority, key)
        except (InputError, UnknownJob) as error:
            self._simulation.attention.raised(error)  # the code that enqueues can swallow it
            raise

    def emit(self, event: str, *args: object, **kwargs: object) -> list[Job[Any]]:
        """Let a named event happen; return the jobs that listen to it. Raises `InputError` if nobody listens.

        Parameters: `event` is its name; all others are the arguments of the jobs.

        Example::

            rig.listen("arrived", manifest)
            rig.emit("arrived", "TL-204")
            assert rig.jobs("submit_manifest").args == [("TL-204",)]
        """
        with self._simulation.noting_errors():
            return self._events.emit(event, args, kwargs)

    def listen(
        self, event: str, job: JobType[..., Any] | Callable[..., object], *, after: Duration | None = None
    ) -> None:
        """Let every `emit` of an event enqueue a job of this type, with the event's arguments.

        Parameters: `event` is its name; `job` is a job type or a function; `after` is a delay. Default None: due at
        once. Raises `InputError`.

        Example::

            rig.listen("arrived", manifest, after="5m")
            (job,) = rig.emit("arrived", "TL-204")
            assert job.delay == dt.timedelta(minutes=5)
        """
        if callable(job) and not isinstance(job, JobType):
            job = self._job_type_of(job)
        self._events.listen(event, job, after)

    def flow(self, name: str) -> Workflow:
        """Return an empty workflow: `add` its steps, then `start` it. Raises `InputError` if `name` is not text.

        Example::

            flow = rig.flow("loading")
            flow.add("weigh", weigh.call(3))
            flow.add("load", load.call(3), after="weigh")
            flow.start()
            rig.run_dry()
            assert flow.job("load").state == "done"
        """
        if not isinstance(name, str) or not name:
            raise InputError(f"the flow's name is {name!r}; give text that is not empty")
        return Workflow(self._simulation.history, name, self._registry.enqueue, self._job_type_of)

    def _job_type_of(self, function: Any) -> JobType[..., Any]:
        return self._registry.type_of(function, self._policy)

    def transaction(self, *, joins: bool = True) -> AbstractContextManager[Transaction]:
        """Stand for a transaction of the application. It commits at the end of the block; an error rolls it back.

        Parameters:

        - `joins`: True (the default) if the queue is part of the transaction: the commit enqueues what was enqueued
          inside, a rollback forgets it. False: workers can see it at once (`laws.after_commit`, `faults.fetch_early`).

        Example::

            try:
                with rig.transaction():
                    rig.enqueue(manifest.call("TL-204"))
                    raise ValueError("the ship is full")
            except ValueError:
                pass
            assert not rig.jobs("submit_manifest")
        """
        return self._simulation.broker.transactions.begin(joins)

    def request(self, name: str, *, on_error: Literal["stop", "go on"] = "stop") -> AbstractContextManager[Request]:
        """Stand for one request to the application.

        If an error leaves the block, the history shows what the request has enqueued and scheduled until then. If not,
        the functions that a `collector` collected run after the block.

        Parameters: `name` is what the history calls the request. `on_error` says if a collected function that raises
        stops those after it (``"stop"``, the default) or not (``"go on"``).

        Example::

            try:
                with rig.request("POST /bookings"):
                    rig.enqueue(manifest.call("TL-204"))
                    raise ValueError("the ship is full")
            except ValueError:
                pass
            assert rig.world.entries[-1].what == "request-failed"
        """
        return self._simulation.requests.handle(name, on_error)

    def schedule(
        self, name: str, job: Call[Any] | JobType[[], Any] | Callable[[], object],
        schedule: Schedule | str | dt.timedelta, *, overlap: Overlap = "allow", missed: Missed = "last",
        poll: Duration | None = None, jitter: Duration | None = None, start: Instant | None = None,
        end: Instant | None = None, until_done: bool = False,
    ) -> Scheduled:  # fmt: skip
        """Run a call on a schedule. It replaces the schedule of the same name. A firing that is due now counts.

        Parameters:

        - `name`: the name of the schedule.
        - `job`: what to run: ``job_type.call(...)``, or a job type or function without arguments.
        - `schedule`: `cron`, `every`, `every_after`, `once`, `sun`, `rrule`, or a set of them. Text is a cron
          expression (``"30 1 * * *"``) or a period (``"15m"``); a `timedelta` is a period.
        - `overlap`: what a firing does while the run before is open: ``"allow"`` (the default) runs it, ``"skip"``
          leaves it out, ``"wait"`` runs it after that.
        - `missed`: which firings run after the scheduler was down: ``"all"``, ``"last"`` (the default) or ``"none"``.
        - `poll`: how often the scheduler looks; a firing starts at the next look. Default None: at once.
        - `jitter`: firings are late by a random time up to this. Default None: not late.
        - `start`, `end`: the first and last instant; the end is not included. Default None: no bound.
        - `until_done`: True removes the schedule after its first run that is done. Default False.

        Raises `InputError`, `UnknownJob`, `PayloadError`, `DurationError` or `InstantError`.

        Example::

            rig.schedule("close-till", till.call(), ic.cron("30 1 * * *"), overlap="skip")
        """
        call = self._registry.call_of(job, (), {}, self._policy)
        if self._registry.payload == "json":
            through_json(call.type.name, call.args, call.kwargs)
        made = self.schedules.place(
            name, call, schedule, overlap=overlap, missed=missed, poll=poll, jitter=jitter, start=start, end=end,
            until_done=until_done,
        )  # fmt: skip
        self._simulation.requests.schedule_added(name)
        self._simulation.schedule_names.setdefault(name)
        return made

    # --- capturing what real code does --------------------------------------------------------------

    def tap(
        self, target: TargetLike, *, reads: Reading | None = None, payload: Payload | None = None,
        also_real: bool = False, policy: Policy | None = None,
    ) -> Tap:  # fmt: skip
        """Turn calls of a real callable into jobs while the rig is entered.

        Parameters:

        - `target`: an import path (``"tern_line.jobs:put"``) or the object itself.
        - `reads`: what a call asks for: `reading(...)`, or a function of the call's arguments that returns an
          `Enqueue`. Default None: as the names of the parameters say, if that is certain.
        - `payload`: as in `Rig`. Default None: as the rig says.
        - `also_real`: True calls the real callable as well, and returns its answer. Default False.
        - `policy`: how a captured job is treated if it is not a job type yet. This is where the retries of captured
          jobs are set, for all jobs of the tap; `Rig.job` sets them for one function. A reading can have a policy of
          its own. Default None: the policy of the rig.

        As a context manager it captures calls only inside the block. Raises `TapError` if the target does not exist or
        cannot be replaced, if the reading does not fit it, or if `reads` is missing and not certain.

        Example::

            rig.tap("tern_line.jobs:put", reads=ic.reading(job=0, args=slice(1, None), after="wait"))
        """
        if payload is not None:
            check_payload(payload)
        made = Tap(
            target, reads, self._registry.enqueue_asked, payload or self._registry.payload, also_real,
            self._simulation.noting_errors, self._take_away, policy,
        )  # fmt: skip
        self._install(made)
        return made

    def _take_away(self, tap: Tap) -> None:
        if tap.active:
            tap.remove()
        self._taps.remove(tap)
        self._taken_away.append(tap)

    def effect(
        self, name: str, target: TargetLike, *, key: str | Callable[..., object] | None = None,
        idempotent: bool = False, answers: object = ...,
    ) -> EffectTap:  # fmt: skip
        """Record every call of a real function as an effect while the rig is entered, with a seam before and after it.

        Parameters:

        - `name`: the name of the effect.
        - `target`: an import path or the function.
        - `key`: what a call is about: the name of a parameter, or a function of the arguments. Default None: no key.
        - `idempotent`: True if who is called does each key once, as a gateway does with an idempotency key: a call with
          a key that was done before is on record as ``repeated``, and breaks no law. Default False.
        - `answers`: what a call returns, or a function of its arguments that says it; the real function is not called.
          Default ``...``: it is called.

        Returns a callable that does the same as the function. Raises `InputError` or `TapError`.

        Example::

            rig.effect("charge", "tern_line.outside:CardGateway.charge", key="key")
            rig.check(ic.laws.once_per_key("charge"))
        """
        made = EffectTap(name, target, self._simulation.effects, key, idempotent, answers)
        self._install(made)
        return made

    def outside(self, target: TargetLike) -> OutsideCall:
        """Make every call of a function that blocks in C on a helper thread, while the rig is entered.

        Its task waits until the call returns, and the other tasks go on. Sockets, files, processes, locks and
        the database drivers that the documentation lists need no such call. Inside the function the clock is real.

        Parameters: `target` is the import path (``"tern_line.radar:wait"``) or the function. Raises `TapError`
        if it does not exist, cannot be replaced, or is async.

        Example::

            rig.outside("tern_line.outside:HarbourOffice.submit")
        """
        made = OutsideCall(target, self._call_outside)
        self._install(made)
        return made

    def _call_outside(self, what: str, function: Callable[..., Any], args: Any, kwargs: Any) -> Any:
        assert self._border is not None  # the function is replaced while the rig is entered
        return self._border.helpers.call(self._border.outside, what, function, args, kwargs)

    def service(self, service: ServiceType) -> ServiceType:
        """Put a simulated outside service into the rig; return it.

        Parameters: `service` is one of `ironclock.services`, or your own `Service`. Raises `InputError` for anything
        else, and `RigStateError` if it, or its name, is in the rig already.

        Example::

            mail = rig.service(ic.services.Mail())
        """
        if not hasattr(service, "attach"):
            raise InputError(f"the service is {service!r}; give ic.services.Mail() or another one")
        if service.name in self._services:
            raise RigStateError(f"the rig has a service {service.name!r} already; give this one another name")
        service.attach(self._simulation)
        self._services[service.name] = service
        return service

    def database(self, database: object, *, when_used: bool = False) -> KeyValueServer | None:
        """Let the clock of a database server follow the rig's, while the rig is entered.

        In every session of this process, `now()`, ``CURRENT_TIMESTAMP`` and the like give the rig's time: in
        statements, defaults of columns, views, functions and triggers. Within a transaction `now()` stays the same, as
        it does otherwise. Afterwards the database is as it was. SQLite follows without this call.

        For the URL of a key-value server (``redis://...``) ordinary client packages reach it through a proxy, which
        takes over expiry, blocking commands and whatever else has to do with time. Returns the `KeyValueServer` then,
        with its faults; else None.

        Parameters: `database` is a URL; the words of libpq (``"host=127.0.0.1 dbname=bookings"``); the name of an
        environment variable that has one of these; an entry of Django's ``DATABASES``; an engine, session maker,
        session or connection of SQLAlchemy; ``django.db.connection``; a connection or a pool of psycopg, psycopg2 or
        asyncpg; a connection of a MySQL driver; or a function that returns one of these. `when_used`: True waits until
        a driver sends a statement, or connects to a key-value server, so that a test that uses no database needs no
        server; it returns None. Default False.

        Raises `InputError` for anything else, and `DatabaseClockError` if the server does not answer, the user may not
        create functions, or an open transaction is in the way. Nothing is changed then.

        Example::

            rig.database(engine)
        """
        from .interpreter.databases.given import recognised

        if when_used and not isinstance(database, str):
            asked = _Database(None, lambda: recognised(database), when_used)
        else:
            server = recognised(database)
            asked = _Database(server, lambda: server, when_used)
        service = None if when_used else self._service_of(server)
        if self._thread is not None:
            self._begin_database(asked)
        self._databases.append(asked)
        return service

    def _begin_database(self, asked: _Database) -> None:
        assert self._border is not None  # the rig is entered
        if asked.when_used:
            self._border.database_clocks.begin_when_used(asked.server, asked.find, self._follow)
        else:
            self._follow(asked.find())

    def _follow(self, server: Server) -> None:
        assert self._border is not None  # the rig is entered
        clocks = self._border.database_clocks
        service = self._service_of(server)
        if service is None:
            clocks.begin(server)
        elif not clocks.follows(server):
            service.behind(clocks.begin_key_value(server, service))

    def _service_of(self, server: Server) -> KeyValueServer | None:
        """Return the service with the faults of a key-value server. None for any other server."""
        if server.kind != "key-value":
            return None
        from .services.key_value_server import KeyValueServer

        name = f"key-value server {server.parameters['host']}:{server.parameters['port']}"
        known = self._services.get(name)
        return known if isinstance(known, KeyValueServer) else self.service(KeyValueServer(name))

    def _reads_real_clock(self, what: str, remedy: str) -> None:
        self._simulation.attention.reads_real_clock(what, remedy)
        self._simulation.history.record("note", detail=f"a database reads its real clock: {what}; {remedy}")

    def collector(self, target: TargetLike, *, on_error: Literal["stop", "go on"] = "stop") -> Collector:
        """Collect the functions that the application adds during a request, to run after its response.

        Parameters:

        - `target`: the application's callable that adds one: a function first, then its arguments.
        - `on_error`: ``"stop"`` (the default) if a function that raises stops those after it, else ``"go on"``.

        What `request` has collected runs as one job, in order. Raises `TapError`.

        Example::

            class Later:
                def add(self, function, *args):
                    raise NotImplementedError("the framework runs it after the response")

            later = Later()
            rig.collector(later.add)
            with rig.request("POST /bookings"):
                later.add(submit_manifest, "TL-204")
            rig.settle()
            assert rig.jobs().one().state == "done"
        """
        from .capture.collector import Collector

        made = Collector(target, self._simulation.requests, on_error)
        self._install(made)
        return made

    def transaction_at(self, target: TargetLike, *, joins: bool = True) -> TransactionTap:
        """Let the application's own transactions open a transaction of the rig as well.

        Every use follows: ``with atomic():``, ``@atomic``, functions that were decorated when their module was
        imported, nested uses as savepoints, and Django's ``on_commit`` and ``ATOMIC_REQUESTS``.

        Parameters: `target` is the import path of a function that returns a context manager, the function, or the class
        of the context managers; `joins` is as in `transaction`. Raises `TapError`.

        Example::

            rig.transaction_at("django.db.transaction:atomic")
        """
        from .capture.transaction_taps import TransactionTap

        made = TransactionTap(target, self._simulation.broker.transactions, joins)
        self._install(made)
        return made

    def outbox(
        self, database: object, *, table: object, columns: Columns | None = None, handlers: Handlers | None = None,
        where: str | None = None, runs: bool = True,
    ) -> Outbox:  # fmt: skip
        """Take jobs from the application's own job table; return the outbox. A rig can have several.

        Parameters:

        - `database`: a connection (DB-API 2.0, SQLAlchemy or ``django.db.connection``); an engine, a session or a
          session maker of SQLAlchemy; a URL; or a function that returns one of them.
        - `table`: the name of the table, or a model of SQLAlchemy or Django.
        - `columns`: what the columns are called (`Columns`). Default None: those of the model, by their common names.
        - `handlers`: the function or job type of each name: a mapping, or a function of the name. Default None: the job
          types of the rig.
        - `where`: SQL that chooses the rows to read. Default None: all that wait.
        - `runs`: True (the default) lets the workers of the rig run the jobs, and writes states and attempts back.
          False: the application's own workers run them (`run_loop`), and their rows say what becomes of each.

        Raises `InputError` for a database, table or column that cannot be used.

        Example::

            rig.outbox(engine, table=Letter, handlers={"manifest": submit_manifest})
        """
        from .capture.outbox import Outbox

        simulation = self._simulation
        made = Outbox(database, table, columns, handlers, where, runs, simulation, self._registry, self._worker_loops())
        self._outboxes.append(made)
        return made

    def run_loop(
        self, function: Callable[[*Ts], object], *args: *Ts, count: int = 1,
        name: str | None = None, skew: Duration = 0,
        restart: Duration | None = None, stop: Callable[[], object] | None = None, skip_polls: bool = False,
    ) -> LoopGroup:  # fmt: skip
        """Run worker loops of the application's own, each on a thread of the rig; return them.

        A loop is a worker, in the history by its name (``"worker-1"``). It can be killed, and die at a seam
        (``rig.faults.crash("worker", at="sleep")``): then no handler runs, and what it had open is taken back, as when
        a process ends. `stop_workers` stops loops as well. When the rig is left, they end.

        Parameters:

        - `function`: the loop, sync or async. `args`: its arguments.
        - `count`: how many of them run. Default 1.
        - `name`: the name of the workers. Default: the function's own name.
        - `skew`: how far the wall clock of their host is ahead; text can begin with a minus. Default 0.
        - `restart`: after how long a loop starts again that has raised an error or died. Default None: one that died at
          a seam starts again after the time that the fault says, one that raised an error does not.
        - `stop`: a function that asks all of them to stop. Default None: the signal SIGTERM asks them.
        - `skip_polls`: True leaves out polls that would find nothing, since no row is due and nothing has happened
          since the last one. What remains comes at the same instants and in the same order. It needs an `outbox` with
          ``runs=False``, and a loop that looks at nothing else that changes with time. The history shows how many were
          skipped. Default False.

        What a loop does between claim and release of a row is an attempt at its job, if an `outbox` with ``runs=False``
        follows the table, or if `handler` says which function handles a job.

        Raises `InputError`, `DurationError` or `RigStateError`.

        Example::

            rig.outbox(engine, table=Letter, runs=False)
            workers = rig.run_loop(work, count=3, name="worker", restart="5s")
        """
        loops = self._worker_loops()
        entered = self._thread is not None
        return loops.add(function, count, name, args, skew, restart, stop, skip_polls, entered, self._policy)

    def handler(
        self, target: TargetLike | Mapping[str, object], *, id: str | Callable[..., object] | None = None,
        job: str | Callable[..., object] | None = None,
    ) -> HandlerTap | dict[str, HandlerTap]:  # fmt: skip
        """Let each call of a function by a worker loop be an attempt at a job. Returns what follows it.

        Parameters:

        - `target`: the function that handles one job, sync or async: its import path or itself, a method, or the method
          of a class. Or a table of handlers: a mapping of the names of jobs to functions, or its import path; a class,
          or an object, in it stands for its method `run`. For a table, each function's `HandlerTap` by name is
          returned.
        - `id`: what the job is known by: the name of a parameter, or a function of the arguments. If it is the id of a
          row of an outbox, the attempt is one at the job of that row. Default None: the row that the loop has claimed
          last in this thread or task; if there is none, each call is a job.
        - `job`: the name of the job: the name of a parameter, or a function of the arguments. Default None: the name in
          the table, or the name of the function. A row has its own.

        Raises `TapError`.

        Example::

            rig.handler("tern_line.booking:release_hold", id="booking")
        """
        from .capture.handlers import HandlerTap, table_of

        def find(number: Any) -> LiveJob | None:
            return next((found for box in self._outboxes if (found := box.live_job(number)) is not None), None)

        def follow(function: Any, name: Any) -> HandlerTap:
            made = HandlerTap(function, self._worker_loops(), find, self._registry.placeholder, id, name)
            self._install(made)
            return made

        table = table_of(target)
        if table is None:
            return follow(target, job)
        taps: dict[str, HandlerTap] = {}
        functions = list(table.values())
        for name, function in table.items():
            known = next((tap for other, tap in taps.items() if table[other] == function), None)
            own = job if job is not None or functions.count(function) > 1 else lambda *_, name=name, **__: name
            taps[name] = known or follow(function, own)
        return taps

    def _worker_loops(self) -> WorkerLoops:
        if self._loops is None:
            from .capture.worker_loops import WorkerLoops

            self._loops = self._host.loops = WorkerLoops(self._simulation, self._threads, self._registry)
        return self._loops

    def web(self, app: Application, *, raise_errors: bool = True) -> httpx.Client:
        """Return an `httpx.Client` whose requests go to a WSGI or ASGI application (`app`) in this process.

        An error of the application is raised in the test. With ``raise_errors=False`` it is a response with status 500.

        The response is there at the instant at which the application sends it. What the application does after that
        continues in simulated time. Each request is one of `request`, so that a `collector` follows it. Needs the extra
        ``ironclock[http]``, and an entered rig.

        Example::

            def app(environ, start_response):
                start_response("200 OK", [])
                return [b"booked"]

            assert rig.web(app).post("/bookings").text == "booked"
        """
        from .capture.web import client

        simulation = self._simulation
        return client(app, self._loop, simulation.history, self._threads, simulation.requests, raise_errors)

    def endpoint(self, app: Application, path: str, **options: Unpack[EndpointKeywords]) -> Endpoint:
        """Return an endpoint of the application to which jobs are pushed as HTTP requests.

        Parameters: `app` is a WSGI or ASGI application; `path` is the path, in which ``{job}`` stands for the job's
        name; `options` and errors are those of `Endpoint`. Needs the extra ``ironclock[http]``, and an entered rig.

        Example::

            def app(environ, start_response):
                start_response("200 OK", [])
                return [b"done"]

            nightly = rig.endpoint(app, "/jobs/{job}", secret="salt").job("nightly", retry=ic.Retry(3, "5m"))
            rig.schedule("nightly", nightly.call(), ic.cron("30 1 * * *"))
        """
        from .capture.endpoint import Endpoint

        return Endpoint(app, path, self._loop, self._registry, self.web, **options)

    def _install(self, made: Replacement) -> None:
        if any(tap.target.same(made.target) for tap in self._taps):
            raise RigStateError(f"{made.target.label} has a tap already; a rig has one for each callable")
        if self._thread is not None:
            made.install()
        self._taps.append(made)

    # --- inside a job -------------------------------------------------------------------------------

    def cancelled(self) -> bool:
        """Return True if the running attempt was asked to stop, by a withdrawal or by workers that shut down.

        Example::

            def report():
                for page in range(100):
                    if rig.cancelled():
                        return f"{page} pages"
                    time.sleep(10)

            job = rig.enqueue(rig.job(report).call())
            rig.advance("55s")
            rig.stop_workers(grace="30s")
            rig.advance("30s")
            assert job.result == "6 pages"
        """
        attempt = self._threads.attempt()
        return attempt is not None and attempt.asked_to_stop

    def progress(self, value: object) -> None:
        """Report how far the running job is. `Job.progress` has the last value, the history has all of them.

        Parameters: `value` is a number, text, or anything that JSON can hold. Raises `RigStateError` outside a job.

        Example::

            job = rig.enqueue(rig.job(lambda: rig.progress(0.5), name="half").call())
            rig.settle()
            assert job.progress == 0.5
        """
        attempt = self._threads.attempt()
        if attempt is None:
            raise RigStateError("progress is reported by a job, and no job is running; call it inside a job")
        attempt.job.progress = value
        self._simulation.history.record("progress", attempt.job, attempt.number, value)

    def remember(self, step: str, function: Callable[P, R], *args: P.args, **kwargs: P.kwargs) -> R:
        """Call a function as a step of the running job; return what it returns.

        A later attempt at the same job gets that result without another call.

        Parameters: `step` is the name of the step, `function` is what it does, `args` and `kwargs` are its arguments.
        Raises `RigStateError` outside a job.

        Example::

            def load(sailing):
                seal = rig.remember("seal", seal_hold, sailing)
        """
        result: R = self._simulation.remembered_steps.step(step, function, args, kwargs)
        return result

    # --- moving the clock ---------------------------------------------------------------------------

    def settle(self) -> None:
        """Run what is due now, and what that enqueues without a delay.

        Example::

            job = rig.enqueue(manifest.call("TL-204"))
            assert job.state == "ready"
            rig.settle()
            assert job.state == "done"
        """
        self._advance_to(self._loop.now, "settle")

    def advance(self, duration: Duration) -> None:
        """Run everything that is due within a duration from now, its end included, each thing at its own instant.

        Parameters: `duration` is text (``"1h30m"``), seconds or a `timedelta`. Raises `DurationError`.

        Example::

            rig.advance("1h")
        """
        self._advance_to(self._loop.now + to_ns(duration), "advance")

    def advance_to(self, instant: Instant) -> None:
        """Run everything that is due up to an instant, itself included.

        Parameters: `instant` is an aware datetime, or ISO 8601 text in the rig's zone. Raises `InstantError` if it is
        in the past.

        Example::

            job = rig.enqueue(manifest.call("TL-204"), at="2031-03-04T06:00")
            rig.advance_to("2031-03-04T06:00")
            assert job.state == "done"
        """
        self._advance_to(self._not_past(instant), "advance_to")

    def _not_past(self, instant: Instant) -> int:
        until, now = self._timeline.ns(instant), self._loop.now
        if until < now:
            raise InstantError(
                f"the instant is {self._timeline.text(until)}, before the rig's now, {self._timeline.text(now)}; "
                "time in a rig only goes forward"
            )
        return until

    def _advance_to(self, until_ns: int, what: str) -> None:
        self._must_not_be_in_event_loop(what)
        with self._entered_for_now():
            self._loop.advance_to(until_ns)

    def _must_not_be_in_event_loop(self, what: str) -> None:
        """Raise `RigStateError` if an event loop runs in the test: its timers would ring too late."""
        if self._loop.current is None and not self._loop.running and running_loop() is not None:
            raise RigStateError(
                f"rig.{what}() moves the clock past the timers of the event loop that runs here; in an async test: "
                f"await rig.{what}_async(...)"
            )

    async def settle_async(self) -> None:
        """Do what `settle` does in an async test: the tasks of the event loop run as well."""
        await settle_async(self._loop, self._entered_for_now)

    async def advance_async(self, duration: Duration) -> None:
        """Do what `advance` does in an async test: timers of the event loop ring at their own instants as well.

        Parameters: `duration` and errors as in `advance`. Example::

            async def test_the_reminder_is_sent(rig):
                await start_reminders()
                await rig.advance_async("1h")
        """
        await advance_async(self._loop, self._entered_for_now, self._loop.now + to_ns(duration))

    async def advance_to_async(self, instant: Instant) -> None:
        """Do what `advance_to` does in an async test. Parameters: `instant` and errors as in `advance_to`."""
        await advance_async(self._loop, self._entered_for_now, self._not_past(instant))

    async def run_dry_async(self, limit: Duration = "30d") -> None:
        """Do what `run_dry` does in an async test. Parameters: `limit`, by default ``"30d"``, and errors as there."""
        end = self._loop.now + to_ns(limit, what="limit")
        await settle_async(self._loop, self._entered_for_now)
        while self._simulation.lives.open_jobs and (due := self._loop.next_due_ns) is not None and due <= end:
            await advance_async(self._loop, self._entered_for_now, max(due, self._loop.now))
        self._simulation.must_be_dry(to_ns(limit))

    def _entered_for_now(self) -> AbstractContextManager[Any]:
        """Enter the rig for one call, unless it is entered. Jobs never run on the real clock."""
        if self._simulation.attention.errors:
            self._simulation.tell_swallowed()
        return _NOTHING if self._thread is not None else _Held(self._begin_hold, self._end_call)

    def step(self) -> bool:
        """Run the next event, and move the clock to it. Returns False if no event is pending.

        Example::

            rig.enqueue(manifest.call("TL-204"), after="1h")
            while rig.step():
                rig.note("one event more")
        """
        with self._entered_for_now():
            due = self._next_due_ns
            if due is None:
                return False
            self._loop.run_until(due, ONE_EVENT)
        return True

    def run_dry(self, limit: Duration = "30d") -> None:
        """Run until no job is open. Schedules alone do not keep it running.

        Parameters: `limit` is how much simulated time that can take. Default 30 days. Raises `JobsLeftOpen`, which
        names the jobs that are still open.

        Example::

            rig.enqueue(manifest.call("TL-204"), after="3h")
            rig.run_dry()
            assert rig.jobs("submit_manifest").one().state == "done"
        """
        self._must_not_be_in_event_loop("run_dry")
        with self._entered_for_now():
            self._simulation.run_dry(to_ns(limit, what="limit"))

    @property
    def now(self) -> dt.datetime:
        """The rig's instant, in its time zone."""
        return self._timeline.at(self._loop.now)

    @property
    def next_due(self) -> dt.datetime | None:
        """The instant of the next event. None if no event is pending."""
        due = self._next_due_ns
        return None if due is None else self._timeline.at(due)

    @property
    def _next_due_ns(self) -> int | None:
        if self._loop.waiters and not self._loop.running:
            self._loop.ask_waiters()
        return self._loop.next_due_ns

    # --- looking ------------------------------------------------------------------------------------

    def jobs(
        self, name: JobLike | None = None, *, args: Sequence[object] | None = None, queue: str | None = None,
        state: State | Iterable[State] | None = None, where: Callable[[Job[Any]], bool] | None = None,
    ) -> JobSet:  # fmt: skip
        """Return jobs, in the order in which they were enqueued.

        Parameters (each default None: all):

        - `name`: a job type, its name or its callable.
        - `args`: the positional arguments. If the last one is ``...``, more can follow.
        - `queue`: the name of the queue.
        - `state`: a state, or several (see `Job.state`).
        - `where`: a function of the `Job` that returns True for those wanted.

        Raises `UnknownJob` for text that the rig does not know as the name of a job type, and `InputError` for an
        unknown state. For a function of which there are no jobs the answer is empty.

        Example::

            assert rig.jobs("charge_fare", state="dead").one().error is not None
        """
        if queue is not None:
            self._simulation.must_know_queue(queue, self._policy.queue)
        found = chosen(self._simulation.broker, name, args, queue, state, where)
        if name is not None:
            self._simulation.attention.asked_types.add(name_of(name))
        self._simulation.attention.found_no_job |= not self._simulation.broker.jobs
        return found

    @property
    def dead(self) -> DeadLetters:
        """The dead letters: look at them, `requeue` or `discard` them."""
        return DeadLetters(self._simulation.broker)

    @property
    def history(self) -> History:
        """Everything that happened so far, in order."""
        return self._simulation.history

    @property
    def effects(self) -> Effects:
        """What jobs did to the outside world, in order. ``rig.effects("charge")`` gives those of one name."""
        return self._simulation.effects

    @property
    def world(self) -> World:
        """What laws look at, as it is now."""
        simulation = self._simulation
        return World(simulation.history, simulation.broker.jobs, simulation.broker.name_of)

    def check(self, *laws: Law) -> None:
        """Raise `BrokenLaw` unless every law holds so far.

        Parameters: `laws` are laws of `ironclock.laws`, or functions of the `World`.

        Example::

            rig.check(ic.laws.nothing_lost(), ic.laws.once_per_key("charge"))
        """
        if not laws:
            raise InputError("check has no laws; give ic.laws.nothing_lost() or other laws")
        self._must_fit()
        attention = self._simulation.attention
        check(laws, self.world, lambda law, judged: attention.judged(law) if judged else attention.judged_nothing(law))

    def matches(self, path: str) -> None:
        """Raise `NotApproved`, which says what differs, unless the history is the approved one in a file.

        Parameters: `path` is the file, beside the test. ``pytest --ironclock-approve`` writes it.

        In a test: ``rig.matches("approved/evening.jsonl")``.
        """
        from .history.approval import Approval, must_match

        approval = self._approval or Approval()
        must_match(self.history, path, approval)
        if approval.approve:
            self._simulation.attention.tell_approved(path, self._simulation.broker.jobs)
        for job in self._simulation.broker.jobs:
            self._simulation.attention.looked_at(job)  # the file says what becomes of each

    def allow(self, *kinds: LooseEnd) -> None:
        """Allow kinds of loose ends in this test. Parameters: `kinds` are as in `loose_ends`. Raises `InputError`.

        Example::

            rig.allow("dead jobs")
            rig.faults.fail("submit_manifest")
            rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert not rig.loose_ends()
        """
        self._simulation.attention.allow_in_test(kinds, f"rig.allow [{calling()}]", frame_of_caller(1).f_code)

    def loose_ends(self) -> list[str]:
        """Return what makes a test that passes say less than it seems. The plugin for pytest fails such a test, unless
        the test has asked for them itself.

        The kinds are:

        - ``"unknown names"``: a job type, or queue, that was asked for and never existed.
        - ``"idle faults"``: a fault that never struck.
        - ``"idle taps"``: a tap that the test has put and that was never called, unless the test has asked for jobs and
          there were none.
        - ``"idle laws"``: a law that found nothing to judge.
        - ``"idle policies"``: a policy that the test has given to a name that no job had, although captured jobs had no
          policy of their own, unless the test has asked for the jobs of that name.
        - ``"idle schedules"``: a schedule that the test has put and that never fired, unless the test has read its
          `last`, `next` or `runs`, or has asked for jobs and there were none.
        - ``"dead jobs"``: a dead letter at whose state or error the test has not looked.
        - ``"failing jobs"``: an open job whose last attempt has failed with a mistake in its code (`AssertionError`,
          `TypeError`, `NameError`, `AttributeError`, `ImportError`), and at which the test has not looked.
        - ``"hidden errors"``: an error of the rig that the code under test has swallowed, or that the test has taken as
          any `Exception`.
        - ``"real clocks"``: a statement that read the real clock of a database.
        - ``"dead workers"``: a worker loop that has ended with an error at which the test has not looked.
        - ``"deadlocks"``: tasks that wait for one another, and that nothing can wake any more.

        Example::

            assert not rig.loose_ends()
        """
        ends = self._loose_ends(frame_of_caller(1).f_code)
        found = [line for lines in ends.values() for line in lines]
        self._simulation.attention.told.update(found)
        return found

    def _loose_ends(self, test: CodeType | None, older: PutIn = PutIn()) -> dict[str, list[str]]:
        simulation = self._simulation
        schedules = (
            why
            for name in list(simulation.schedule_names)[older.schedules :]
            if name in self.schedules and not simulation.attention.found_no_job
            and (why := self.schedules[name].why_idle())
        )  # fmt: skip
        taps = (
            f"{tap!r} was never called [{tap.place}]"
            for tap in (*self._taps[older.taps :], *self._taken_away)
            if isinstance(tap, Tap) and not tap.calls and not simulation.attention.found_no_job
        )
        idle_faults = simulation.placed_faults.idle(simulation.loop.now, simulation.broker.jobs)
        dead = () if self._loops is None else self._loops.dead()
        jobs = simulation.broker.jobs
        types = {*simulation.broker.types, *(job.type.name for job in jobs)}  # a collector makes types for one job
        circular = self._threads.circular
        deadlocks = circular.told[circular.seen :]
        policies = simulation.attention.idle_policies(dict(list(self._policies.items())[older.policies :]), jobs)
        return simulation.attention.loose_ends(
            types, jobs, idle_faults, taps, schedules, policies, dead, deadlocks, test
        )

    def note(self, text: str) -> None:
        """Write a line of the test into the history, at this instant. Parameters: `text` is the line.

        Example::

            rig.note("the tide turns")
            assert rig.history[-1].what == "note"
        """
        self._simulation.history.record("note", detail=str(text))

    def replay(self, token: str) -> None:
        """Make the run of this rig go as a replay token says: with its faults, its order, its start.

        Call it before the story begins, on a rig with the arguments that the search had.

        Parameters: `token` is text that begins with ``ic1-``, as the probe prints it. Raises `InputError` for anything
        else. Leaving the rig, and `check`, raise `ReplayError` if the story never came to a place that the token names.
        """
        from .search.replay import Replay
        from .search.replay_token import read

        held = read(token)
        replay = Replay(held, self._loop)
        self._switch_on(checked_seams(held.seams))
        self._decide_with(lambda loop: replay.control)
        if held.plan.start is not None:
            self._loop.begin_at(self._timeline.ns(held.plan.start))
        self._replay = replay
        if self._thread is not None:
            replay.enter()

    def _switch_on(self, seams: frozenset[str]) -> None:
        """Let more kinds of real calls be seams."""
        self._seams |= seams
        self._simulation.real_seams = self._seams
        if self._border is not None:
            self._border.switch_on(self._loop, self._seams)

    def _real_changes(self) -> int:
        seams = None if self._border is None else self._border.call_seams
        return 0 if seams is None else seams.changes

    def _decide_with(self, make: Callable[[Any], DecisionsType]) -> DecisionsType:
        made = make(self._loop)
        self._simulation.decide_with(made)
        self._threads.watch_locks()
        if self._thread is not None:  # the fixture enters its rig before the test begins
            watch_locks_here()
        return made

    # --- entering and leaving -----------------------------------------------------------------------

    def __enter__(self) -> Rig:
        me = threading.get_ident()
        if self._thread is not None:
            if self._thread != me:
                raise RigStateError("this rig is entered already, in another thread; leave it there first")
            self._depth += 1
            return self
        try:
            with signals.interrupts_deferred():
                self._enter(me)
        except BaseException:  # Ctrl-C, which comes when it is entered: nobody will leave it
            if self._thread is not None:
                self._leave()
            raise
        return self

    def _enter(self, me: int) -> None:
        if self._clock_functions is None:
            clock = self._clock_functions = ClockFunctions(
                self._loop, self._simulation.history, self._threads.alive, self._wall_clock_offset_ns
            )
            border = self._border = self._host.border = Border(
                self._loop, clock.wall_ns, self._stuck_after_s, installation.note_real_thread,
                self._reads_real_clock, self._threads, self._seams,
            )  # fmt: skip
            self._entered = EnteredRig(self._loop, self._threads, border, clock, self._simulation.host)
            self._threads.on_death.append(border.database_uses.take_back)
            self._threads.executors = border.executors
            border.worker_exits = self._simulation.worker_exits
        assert self._entered is not None
        installation.enter(self._entered)
        self._threads.states.enter_rig()
        self._thread = me
        self._depth = 1
        try:
            if self._replay is not None:
                self._replay.enter()
            for tap in self._taps:
                tap.install()
            if self._loops is not None:
                self._loops.enter()
            for asked in self._databases:
                self._begin_database(asked)
        except BaseException:
            self._leave()
            raise

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._left_for_good() and error is None:
            self._must_fit()
        if error is not None:  # the story was not told to its end
            self._simulation.attention.is_judged = False

    def _left_for_good(self) -> bool:
        """Leave the rig once; return True if nobody is in it any more."""
        self._depth -= 1
        if self._depth:
            return False
        with signals.interrupts_deferred():
            self._leave()
        return True

    def _must_fit(self) -> None:
        if self._replay is not None:
            self._replay.must_fit()

    def _held(self) -> AbstractContextManager[Rig]:
        return _Held(self._begin_hold, self._end_hold)

    def _begin_hold(self) -> Rig:
        self._holds += 1
        try:
            return self.__enter__()
        except BaseException:
            self._holds -= 1
            raise

    def _end_hold(self, *_: Any) -> None:
        try:
            self._left_for_good()
        finally:
            self._holds -= 1

    def _end_call(self, *_: Any) -> None:
        try:
            with signals.interrupts_deferred():
                self._leave()
        finally:
            self._holds -= 1

    def _leave(self) -> None:
        try:
            if self._border is not None:
                self._border.give_connections_back()
            if not self._holds:
                with self._ending_tasks():
                    self._threads.end_those_of_test()
            for tap in reversed(self._taps):
                if tap.active:
                    tap.remove()
            if self._replay is not None:
                self._replay.leave()
        finally:
            self._thread = None
            self._depth = 0
            # All of this is done, from the last to the first, whatever raises: a rig must not stay entered.
            with ExitStack() as leaving:
                leaving.callback(installation.leave)
                leaving.callback(self._threads.states.leave)
                leaving.callback(self._threads.end_idle_pool_workers)
                if self._border is not None:
                    leaving.callback(self._border.leave)
                for outbox in reversed(self._outboxes):
                    leaving.callback(outbox.close)
                leaving.callback(self._host.close_idle)

    def close(self) -> None:
        """End every suspended job. The rig can still be read; do not advance it. The `rig` fixture does this.

        A rig that is left while a job sleeps in it can be entered again, so it stays in memory until it is closed.

        Example::

            with ic.Rig() as evening:
                evening.enqueue(evening.job(lambda: time.sleep(3600), name="watch").call())
                evening.advance("1m")
            evening.close()
            assert evening.jobs("watch").one().state == "running"
        """
        if self._thread is None and (self._switcher.has_suspended or self._threads.alive):
            # What a rig has started ends inside it: with its clock, its taps, and the values of its own threads.
            with contextlib.suppress(RigStateError), _Held(self._begin_hold, self._end_call):  # another rig is entered
                self._end_tasks()
        self._end_tasks()
        self._release_system_resources()

    def _end_tasks(self) -> None:
        with self._ending_tasks():
            self._threads.end_those_of_test(and_of_jobs=True)
            self._switcher.close()
            self._loop.current = None

    def _ending_tasks(self) -> AbstractContextManager[None]:
        return nullcontext() if self._border is None else self._border.database_uses.ending_tasks()

    def _release_system_resources(self) -> None:
        """Let whoever waits for a thread of this rig continue, and close what it holds of the system."""
        self._threads.end_all()
        self._host.close()

    def _take_apart(self) -> None:
        """End every suspended job without its handlers, and empty every part, so that nothing waits for the garbage
        collector. Neither the rig nor anything that came from it can be used then."""
        with self._ending_tasks():
            self._switcher.end_all()
        self._threads.free_locks()
        self._release_system_resources()
        self._threads.forget()
        for pool in self._simulation.pools.all:
            pool.queues.clear()
        for part in (
            *self._services.values(), *self._outboxes, *(() if self._loops is None else self._loops.parts),
            self._timetable, self._events, self._registry, self._clock_functions,
            self._threads, *self._simulation.parts, self._simulation,
        ):  # fmt: skip
            if part is not None:
                vars(part).clear()
        vars(self).clear()  # its border calls it: a cycle otherwise

    # --- what the simulation asks of the interpreter --------------------------------------------------

    def _wall_clock_offset_ns(self) -> int:
        return self._simulation.wall_clock_offset_ns

    def __setattr__(self, name: str, value: object) -> None:
        # `rig.zone = "UTC"` and `rig.now = ...` would do nothing, and a test would pass that should not.
        if not name.startswith("_"):
            must_not_be_set(self, name)
        object.__setattr__(self, name, value)

    if not TYPE_CHECKING:  # with it, static tools would accept every misspelled name

        def __getattr__(self, name: str) -> object:
            raise no_attribute(self, name)

    def __repr__(self) -> str:
        counts = Counter(job.state for job in self._simulation.broker.jobs)
        states = ", ".join(f"{count} {state}" for state, count in counts.items())
        return f"<rig at {self._timeline.text(self._loop.now)} ({self._timeline.zone}): {states or 'no jobs'}>"


_DEFAULT_POLICY = Policy()
_NOTHING = nullcontext()


class _Held:
    """Enters a rig and leaves it, by functions of the rig. A generator could be left half way by Ctrl-C."""

    def __init__(self, begin: Callable[[], Rig], end: Callable[..., None]) -> None:
        self._begin, self._end = begin, end

    def __enter__(self) -> Rig:
        return self._begin()

    def __exit__(self, *raised: Any) -> None:
        self._end(*raised)


def held(rig: Rig) -> AbstractContextManager[Rig]:
    """Enter a rig on behalf of a test or a story, which can enter it once more itself.

    Threads that the rig has started live on until it is closed.
    """
    return rig._held()


def decided(rig: Rig, make: Callable[[Any], DecisionsType]) -> DecisionsType:
    """Let decisions choose where the run of a rig can go another way; return them. A search does this with its rigs.

    Parameters: `make` gets the event loop and returns the decisions. Raises `RigStateError` after the first job.
    """
    return rig._decide_with(make)


def loose_ends_of(rig: Rig, test: CodeType | None, older: PutIn = PutIn()) -> dict[str, list[str]]:
    """Return the loose ends of a rig by kind, without those that the test has asked for. Empty if it is not judged.

    Parameters: `test` is the code of the test. `older` is what was put in before the test began.
    """
    attention = simulation_of(rig).attention
    if not attention.is_judged:
        return {}
    ends = {kind: [line for line in lines if line not in attention.told]
            for kind, lines in rig._loose_ends(test, older).items()}  # fmt: skip
    return {kind: lines for kind, lines in ends.items() if lines}


def allow_by_marker(rig: Rig, kinds: Iterable[LooseEnd]) -> None:
    """Note that the marker of a test allows kinds of loose ends. Raises `InputError` for an unknown one."""
    simulation_of(rig).attention.allow_in_test(kinds, "the marker `rig` of the test", None)


def warnings_of(rig: Rig) -> list[str]:
    """Return of what a test is to be warned, in words: that it allows something although there was no such loose end
    when they were last asked for, or that a job has reached another machine that nobody has spoken of."""
    words, port = rig._threads.network
    spoken_of = {str(one.server.parameters.get("port")) for one in rig._databases if one.server is not None}
    far = [] if not words or str(port) in spoken_of else [
        f"{words}; put a simulated service in its place (rig.service), or say that it is meant: Rig(strict=False), "
        "strict = false in [tool.ironclock]"
    ]  # fmt: skip
    return [*simulation_of(rig).attention.needless, *far]


def dead_workers_of(rig: Rig) -> list[str]:
    """Return in words the worker loops and threads of a rig that have ended with an error."""
    return simulation_of(rig).host.dead_workers()


def deadlocks_of(rig: Rig) -> list[str]:
    """Return in words the tasks of a rig that nothing can wake any more."""
    return simulation_of(rig).host.deadlocks()


def seams_of_databases(rig: Rig) -> frozenset[str]:
    """Return the kinds of real calls that a rig's databases get."""
    servers = [asked.server for asked in rig._databases if asked.server is not None]
    return frozenset("redis" if server.kind == "key-value" else "sql" for server in servers)


def uses_servers(rig: Rig) -> bool:
    """Return True if code of a rig has asked real servers."""
    return bool(rig._databases) or (rig._border is not None and bool(rig._border.outside.traffic))


def switch_on(rig: Rig, seams: frozenset[str]) -> None:
    """Let kinds of real calls be seams in a rig. Raises nothing for kinds that are seams already."""
    rig._switch_on(seams)


def must_fit(rig: Rig) -> None:
    """Raise `ReplayError` if a rig replays a token, and its story, which is over, does not fit it."""
    rig._must_fit()


def put_in(rig: Rig) -> PutIn:
    """Return how much of each kind a rig has had put in so far."""
    return PutIn(len(rig._taps), len(simulation_of(rig).schedule_names), len(rig._policies))


def is_entered(rig: Rig) -> bool:
    """Return True if somebody is in a rig at the moment."""
    return rig._depth > 0


def simulation_of(rig: Rig) -> Simulation:
    """Return the simulation of a rig, for modules that build on it."""
    return rig._simulation


def changes_of(rig: Rig) -> int:
    """Return how much has happened in a rig so far: a number that grows with each entry and each real call."""
    return len(rig.history) + rig._real_changes()


def take_apart(rig: Rig) -> None:
    """Empty a rig after a run of a search. It cannot be used afterwards."""
    rig._take_apart()


def contents_of(rig: Rig) -> Contents:
    """Return what is in the databases of a rig that is entered."""
    return {} if rig._border is None else rig._border.contents()
