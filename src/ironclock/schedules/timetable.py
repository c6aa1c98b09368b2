"""The timetable: the schedules of a rig, and what becomes of each firing."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from typing import Any, Literal, NamedTuple, get_args

from ..errors import InputError, PolicyError, RigStateError, StuckError, UnknownJob, nearest
from ..foundation.durations import Duration, spell, to_ns
from ..foundation.instants import Instant
from ..history.history import History
from ..simulation.broker import Broker
from ..simulation.event_loop import EventLoop
from ..simulation.faults.judge import Judge
from ..simulation.faults.kind import About, Operation, Passing
from ..simulation.jobs import OPEN, Job, LiveJob
from ..simulation.policy import Call
from ..simulation.world_change import Planned
from .schedule import Schedule
from .sets import Jitter, Within
from .written import schedule_of

Overlap = Literal["allow", "skip", "wait"]
Missed = Literal["all", "last", "none"]
_STOCK = 2048
_DAY_NS = 86_400 * 10**9


class Handover(NamedTuple):
    """What a schedule leaves to the one that replaces it."""

    schedule: Schedule
    due: int | None
    """Its next firing. If that is due by now, it runs it itself."""
    unseen: list[int]
    """The firings that passed while the scheduler was down."""
    waiting: int
    """How many firings wait for the end of a run."""
    latest: LiveJob | None
    """Its last run."""


class Scheduled:
    """One schedule of a rig. `Rig.schedule` gives it.

    Example::

        nightly = rig.schedule("close-till", till.call(), ic.cron("30 1 * * *"))
        rig.advance("1d")
        assert nightly.last.state == "done"
    """

    def __init__(
        self, timetable: Timetable, loop: EventLoop, broker: Broker, judge: Judge, name: str, call: Call[Any],
        schedule: Schedule, overlap: Overlap, missed: Missed, poll_ns: int, jitter: Jitter | None, until_done: bool,
    ) -> None:  # fmt: skip
        self._timetable = timetable
        self._loop = loop
        self._broker = broker
        self._judge = judge
        self.name = name
        """Its name."""
        self.call = call
        """What it runs."""
        self.schedule = schedule
        """When it runs."""
        self.overlap = overlap
        """What happens if the run before is still open."""
        self.missed = missed
        """Which firings run after the scheduler was down."""
        self.poll_ns = poll_ns
        """How often the scheduler looks, in nanoseconds. 0: it acts at the instant."""
        self.jitter = jitter
        """How much later a run can be enqueued. None: no jitter."""
        self.until_done = until_done
        """True if it ends with the first run that is done."""
        self.paused = False
        """True while firings pass without a run."""
        self.removed = False
        """True if it is not on the timetable any more."""
        self.fires = 1
        """How many runs each firing becomes: one, but in a changed world."""
        self.skipped = 0
        """How many firings were left out because the run before was open, or because the scheduler was down."""
        self.refused = 0
        """How many firings became no run because the enqueue was refused. The history has each error."""
        self._is_looked_at = False
        self._runs: list[LiveJob] = []
        self._run_before: LiveJob | None = None  # the last run of the schedule that this one has replaced
        self._replaced_ns: int | None = None  # when another one replaced it: what was due by then still runs
        self._due: int | None = None
        self._expected = 0
        self._stock: list[int] = []
        self._waiting = 0
        self._unseen: list[int] = []
        self._after_end = schedule.from_end
        self._watched = self._after_end or overlap == "wait" or until_done
        self._event = self._fire

    # --- what a test asks and tells -----------------------------------------------------------------

    @property
    def runs(self) -> list[Job[Any]]:
        """Every run so far, the latest last."""
        self._is_looked_at = True
        return [job.reader for job in self._runs]

    @property
    def last(self) -> Job[Any] | None:
        """The latest run, or None."""
        self._is_looked_at = True
        return self._runs[-1].reader if self._runs else None

    @property
    def next(self) -> dt.datetime | None:
        """The instant of the next firing. None if there is none, and while it is paused or removed."""
        self._is_looked_at = True
        if self._due is None or self.paused or self.removed:
            return None
        return self._loop.timeline.at(self._due)

    def why_idle(self) -> str:
        """Return in words that it has never fired. Empty if it has, or if somebody has looked at it, paused it, or
        taken it away."""
        if self._runs or self.skipped or self.refused or self._is_looked_at or self.paused or self.removed:
            return ""
        if self._due is None:
            return f"the schedule {self.name!r} never fired: it has no firing"
        first, now = map(self._loop.timeline.text, (self._due, self._loop.now))
        return f"the schedule {self.name!r} never fired: its first firing is at {first}, and the rig is at {now}"

    def pause(self) -> None:
        """Let firings pass without a run, until `resume`.

        Example::

            nightly = rig.schedule("till", till.call(), ic.cron("30 1 * * *"))
            nightly.pause()
        """
        self.paused = True

    def resume(self) -> None:
        """Let firings run again. Those that have passed are gone.

        Example::

            nightly = rig.schedule("till", till.call(), ic.cron("30 1 * * *"))
            nightly.pause()
            rig.advance("2d")
            nightly.resume()
        """
        self.paused = False

    def trigger(self) -> Job[Any]:
        """Run now, whatever the schedule and `overlap` say; return the job. Raises `RigStateError` if it is removed.

        Example::

            nightly = rig.schedule("till", till.call(), ic.cron("30 1 * * *"))
            nightly.trigger()
            rig.settle()
            assert nightly.last.state == "done"
        """
        if self.removed:
            raise RigStateError(f"the schedule {self.name!r} is removed; add it again with rig.schedule(...)")
        return self._run().reader

    def remove(self) -> None:
        """Remove it from the timetable. A run that is open continues.

        Example::

            nightly = rig.schedule("till", till.call(), ic.cron("30 1 * * *"))
            nightly.remove()
            assert "till" not in rig.schedules
        """
        self.removed = True
        self._timetable.forget(self)

    # --- what the simulation does -------------------------------------------------------------------

    def hand_over(self) -> Handover:
        """Stop, and return what the schedule that replaces this one takes over. What was due by now still runs."""
        self.removed, self._replaced_ns = True, self._loop.now
        unseen, self._unseen = self._unseen, []
        waiting, self._waiting = self._waiting, 0
        return Handover(self.schedule, self._due, unseen, waiting, self._latest)

    def take_over(self, old: Handover) -> None:
        """Take over from the schedule of this name that was there. The same schedule again keeps its next firing.
        Parameters: `old` is what the one before hands over."""
        if type(old.schedule) is type(self.schedule) and old.schedule.describe() == self.schedule.describe():
            self.schedule = old.schedule  # an interval counts from where it began
        self._unseen, self._waiting, self._run_before = old.unseen, old.waiting, old.latest
        self._watched = self._watched or old.waiting > 0  # they still come one after the other
        if self._watched and old.latest is not None and old.latest.state in OPEN:
            old.latest.when_closed(self._closed)
        if self._after_end and self.schedule is old.schedule:
            self._due = old.due

    def begin(self, fired: int | None) -> None:
        """Plan the first firing. `fired` is the last firing of this name that is dealt with; it is due once."""
        now = self._loop.now
        if not self._after_end:
            # A firing that is due now counts: a rig that starts at 01:30 sees the 01:30 firing.
            self.plan(now - 1 if fired is None else max(now - 1, fired))
        elif self._run_before is None or self._run_before.state not in OPEN:  # else its end plans the next
            if self._due is not None and self._due > now:
                self._expect(self._due)
            else:
                self.plan(now)

    @property
    def _latest(self) -> LiveJob | None:
        return self._runs[-1] if self._runs else self._run_before

    def plan(self, since: int) -> None:
        """Put the first firing after `since` on the heap, in place of the one that was there."""
        self._due = due = self._next(since)
        if due is not None:
            self._expect(due)

    def _expect(self, due: int) -> None:
        self._expected += 1  # a schedule has one next firing: any other one that is on the heap is void
        self._loop.schedule(due, self.call.type.priority, self._event, (due, self._expected))

    def _next(self, since: int) -> int | None:
        stock = self._stock
        if stock:
            stock.pop()  # the one that is firing
        while stock and stock[-1] <= since:
            stock.pop()
        if not stock:
            first = self.schedule.next_ns(since)
            if first is None:
                return None
            # To work out many firings at once costs far less than one by one. A day shows how many there are.
            day = self.schedule.span_ns(first, first + _DAY_NS) if self._bulk else [first]
            found = day if len(day) > 1 else [first]
            stock[:] = [int(ns) for ns in found[:_STOCK]][::-1]
        return stock[-1]

    @property
    def _bulk(self) -> bool:
        return len(self._runs) > 2 and not self._after_end

    def _gone(self, due: int) -> bool:
        """Return True if a firing does not run any more, because the schedule is removed or was replaced before it."""
        return self.removed and (self._replaced_ns is None or due > self._replaced_ns)

    def _fire(self, planned: tuple[int, int]) -> None:
        due, number = planned
        if number != self._expected or due != self._due or self._gone(due):
            return
        self._timetable.fired(self.name, due)
        if self.removed:
            self._due = None
        elif not self._after_end:
            self.plan(due)
        elif self.paused or self._timetable.down:
            self.plan(self._loop.now)  # no run whose end would plan the next
        at = due
        if self.jitter is not None:
            at += self.jitter.late(due)
        if self.poll_ns:
            start = self._loop.start_ns
            at = start + -(-(at - start) // self.poll_ns) * self.poll_ns
        if at > self._loop.now:
            self._loop.schedule(at, self.call.type.priority, self._arrive, due)
        else:
            self._arrive(due)

    def _arrive(self, due: int) -> None:
        """Let the scheduler see a firing: when it is due, or later by the poll and the jitter."""
        if self.paused or self._gone(due):
            return
        if self._timetable.down:
            self._unseen.append(due)
            return
        firing = _Firing(self, due)
        self._judge.strike(firing)
        if not firing.over:
            for _ in range(self.fires):
                self._take()

    def take_late(self, ns: int) -> None:
        """Let a firing that a fault has struck become a run later. Parameters: `ns` is a time in nanoseconds."""
        self._timetable.note(f"{self.name}: a firing comes {spell(ns)} late")
        self._loop.schedule_world_event(self._loop.now + ns, lambda _: self._take(), None)

    def miss(self, due: int, ns: int) -> None:
        """Let nobody see a firing until the scheduler is up again. Parameters: `due` is when it was due, in nanoseconds
        since the epoch; `ns` is a time in nanoseconds."""
        self._unseen.append(due)
        self._timetable.note(f"the scheduler is down for {spell(ns)}")
        self._loop.schedule_world_event(self._loop.now + ns, lambda _: self.catch_up(), None)

    def _take(self) -> None:
        """Let one firing become a run, if `overlap` allows it."""
        last = self._latest
        if self.overlap != "allow" and last is not None and last.state in OPEN:
            if self.overlap == "wait":
                self._waiting += 1
            else:
                self.skipped += 1
                self._timetable.note(f"{self.name}: a firing is left out, {last.id} is still {last.state}")
            return
        self._run_or_refuse()

    def _run_or_refuse(self) -> bool:
        """Run. If the enqueue is refused, write that down: the schedule goes on. Returns True if there is a run."""
        try:
            self._run()
        except (PolicyError, StuckError):
            raise  # the program is wrong, not the world
        except Exception as error:
            self.refused += 1
            self._timetable.refused(self.name, error)
            if self._after_end and not self.removed:
                self.plan(self._loop.now)
            return False
        return True

    def _run(self) -> LiveJob:
        call = self.call
        job = self._broker.enqueue(call.type, call.args, call.kwargs, self._loop.now)
        self._runs.append(job)
        if self._watched:
            job.when_closed(self._closed)
        return job

    def _closed(self, job: LiveJob) -> None:
        if self.removed:
            return
        if self.until_done and job.state == "done":
            self.remove()
            return
        if self._after_end:
            self.plan(self._loop.now)
        while self._waiting:
            self._waiting -= 1
            if self._run_or_refuse():
                break

    def catch_up(self) -> None:
        """Deal with the firings that passed while the scheduler was down."""
        unseen, self._unseen = self._unseen, []
        if not unseen:
            return
        runs = len(unseen) if self.missed == "all" else 1 if self.missed == "last" else 0
        if self.paused:
            runs = 0
        self.skipped += len(unseen) - runs
        why = ", and the schedule is paused" if self.paused else ""
        self._timetable.note(f"{self.name}: {len(unseen)} firings were missed, {runs} of them run now{why}")
        for _ in range(runs):
            self._take()

    def __repr__(self) -> str:
        state = "removed" if self.removed else "paused" if self.paused else f"next {self.next}"
        return f"<schedule {self.name!r}: {self.schedule.describe()}; {len(self._runs)} runs, {state}>"


class Timetable:
    """The schedules of a rig by name. `Rig.schedules` is one.

    Example::

        rig.schedules.stop()   # the scheduler is down
        rig.advance("3h")
        rig.schedules.start()  # each schedule deals with what it has missed
    """

    def __init__(self, loop: EventLoop, history: History, broker: Broker, judge: Judge, seed: object) -> None:
        self._loop = loop
        self._history = history
        self._broker = broker
        self._judge = judge
        self._seed = seed
        self._down = False
        self._entries: dict[str, Scheduled] = {}
        self._fired: dict[str, int] = {}  # by name, the last firing that was dealt with

    @property
    def down(self) -> bool:
        """True while the scheduler is down: nobody sees the firings. `stop` and `start` change it."""
        return self._down

    def __repr__(self) -> str:
        return f"<schedules: {', '.join(self._entries) or 'none'}{', the scheduler is down' * self.down}>"

    def add(self, entry: Scheduled) -> None:
        """Add a schedule. It replaces the one of the same name. Parameters: `entry` is the schedule."""
        old = self._entries.get(entry.name)
        fired = self._fired.get(entry.name)
        if old is not None:
            handover = old.hand_over()
            entry.take_over(handover)
            if handover.due is not None and handover.due <= self._loop.now:
                fired = handover.due
        self._entries[entry.name] = entry
        plan = self._judge.plan
        entry.paused = entry.paused or (plan is not None and plan.leaves_out(f"schedule {entry.name}"))
        entry.begin(fired)

    def place(
        self, name: str, call: Call[Any], schedule: Schedule | str | dt.timedelta, *, overlap: Overlap, missed: Missed,
        poll: Duration | None, jitter: Duration | None, start: Instant | None, end: Instant | None, until_done: bool,
    ) -> Scheduled:  # fmt: skip
        """Run a call on a schedule; return it. Parameters and errors as in `Rig.schedule`; `call` is what it runs.
        Parameters: `name` is its name; `schedule` is when it runs; `overlap` is as in `Rig.schedule`; `missed` is as in
        `Rig.schedule`; `poll` is as in `Rig.schedule`; `jitter` is as in `Rig.schedule`; `start` is the first instant;
        `end` is the last instant, not included; `until_done` is as in `Rig.schedule`."""
        if not isinstance(name, str) or not name:
            raise InputError(f"name is {name!r}; give text that is not empty")
        schedule = schedule_of(schedule)
        for what, value, known in (("overlap", overlap, get_args(Overlap)), ("missed", missed, get_args(Missed))):
            if value not in known:
                raise InputError(f"{what} is {value!r}; give one of {', '.join(known)}")
        timeline = self._loop.timeline
        planned = Planned(schedule, overlap, timeline.zone)
        change = self._broker.change
        if change is not None and change.schedule is not None:
            planned = change.schedule(name, planned)
            overlap = planned.overlap  # type: ignore[assignment]
        bound: Schedule = planned.schedule.in_zone(timeline.zone).begun(self._loop.now)
        if planned.without_first:
            first = bound.next_ns(self._loop.now - 1)
            bound = bound if first is None else Within(bound, first + 1, None)
        if start is not None or end is not None:
            bounds = [None if bound_at is None else timeline.ns(bound_at) for bound_at in (start, end)]
            bound = Within(bound, *bounds)
        late = None if jitter is None else Jitter(to_ns(jitter, what="jitter"), f"{self._seed}:{name}")
        entry = Scheduled(
            self, self._loop, self._broker, self._judge, name, call, bound, overlap, missed,
            0 if poll is None else to_ns(poll, what="poll"), late, until_done,
        )  # fmt: skip
        entry.fires = planned.fires
        self.add(entry)
        return entry

    def fired(self, name: str, due: int) -> None:
        """Note that a firing is dealt with. It is not due again, whatever is added under its name. Parameters: `name`
        is its name; `due` is when it was due, in nanoseconds since the epoch."""
        self._fired[name] = due

    def refused(self, name: str, error: Exception) -> None:
        """Write a firing that was refused into the history. Parameters: `name` is its name; `error` is an error."""
        self._history.record("firing-refused", detail=(name, error))

    def forget(self, entry: Scheduled) -> None:
        """Remove a schedule. Parameters: `entry` is the schedule."""
        if self._entries.get(entry.name) is entry:
            del self._entries[entry.name]

    def stop(self) -> None:
        """Take the scheduler down.

        Example::

            rig.schedules.stop()
        """
        self._down = True
        self.note("the scheduler is down")

    def start(self) -> None:
        """Bring the scheduler up again. Each schedule deals with what it has missed, as its `missed` says.

        Example::

            rig.schedules.stop()
            rig.advance("3h")
            rig.schedules.start()
        """
        self._down = False
        self.note("the scheduler is up")
        for entry in list(self._entries.values()):
            entry.catch_up()

    def note(self, text: str) -> None:
        """Write a line into the history. Parameters: `text` is the line."""
        self._history.record("note", detail=text)

    def __getitem__(self, name: str) -> Scheduled:
        found = self._entries.get(name)
        if found is None:
            raise UnknownJob(f"there is no schedule {name!r}; {nearest(str(name), self._entries)}")
        return found

    def __contains__(self, name: Any) -> bool:
        return name in self._entries

    def __iter__(self) -> Iterator[Scheduled]:
        return iter(list(self._entries.values()))

    def __len__(self) -> int:
        return len(self._entries)


class _Firing(Passing):
    """A firing of a schedule, when the scheduler is about to see it."""

    can: frozenset[Operation] = frozenset({"come_late", "miss"})
    about: About = "firing"
    runs_code = False

    def __init__(self, entry: Scheduled, due: int) -> None:
        super().__init__("firing", f"schedule {entry.name}")
        self._entry = entry
        self._due = due

    def come_late(self, ns: int) -> None:
        self.over = True
        self._entry.take_late(ns)

    def miss(self, ns: int) -> None:
        self.over = True
        self._entry.miss(self._due, ns)
