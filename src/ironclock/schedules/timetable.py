"""The timetable: the schedules of a rig, and what becomes of each firing."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from typing import Any, Literal

from ..core.durations import spell
from ..core.engine import Engine
from ..core.errors import RigStateError, UnknownJob, nearest
from ..core.faults import Fault
from ..core.jobs import OPEN, Job
from ..core.policy import Call
from .base import Schedule
from .sets import Jitter

Overlap = Literal["allow", "skip", "wait"]
Missed = Literal["all", "last", "none"]
_STOCK = 2048
_DAY_NS = 86_400 * 10**9


class Scheduled:
    """One entry of the timetable."""

    def __init__(
        self, timetable: Timetable, name: str, call: Call, schedule: Schedule, overlap: Overlap, missed: Missed,
        poll_ns: int, jitter: Jitter | None, until_done: bool,
    ) -> None:  # fmt: skip
        self._timetable = timetable
        self.name = name
        self.call = call
        self.schedule = schedule
        self.overlap = overlap
        self.missed = missed
        self.poll_ns = poll_ns
        self.jitter = jitter
        self.until_done = until_done
        self.runs: list[Job] = []
        """Every run so far, the latest last."""
        self.paused = False
        self.removed = False
        self.skipped = 0
        """Firings that were left out because the run before was still going, or nobody looked."""
        self._due: int | None = None
        self._stock: list[int] = []
        self._waiting = 0
        self._unseen: list[int] = []
        self._after_end = schedule.from_end
        self._late = jitter is not None or poll_ns > 0
        self._watched = self._after_end or overlap == "wait" or until_done
        self._event = self._fire

    # --- what a test asks and tells -----------------------------------------------------------------

    @property
    def last(self) -> Job | None:
        """The latest run."""
        return self.runs[-1] if self.runs else None

    @property
    def next(self) -> dt.datetime | None:
        """The instant of the next firing; None where there is none, or while it is paused or removed."""
        if self._due is None or self.paused or self.removed:
            return None
        return self._timetable.engine.timeline.at(self._due)

    def pause(self) -> None:
        """Let firings pass without a run until `resume`."""
        self.paused = True

    def resume(self) -> None:
        """Fire again; what passed meanwhile is gone."""
        self.paused = False

    def trigger(self) -> Job:
        """Run now, whatever the schedule and the overlap rule say; return the job."""
        self._must_stand()
        return self._run()

    def remove(self) -> None:
        """Take it off the timetable; a run that is under way goes on."""
        self.removed = True
        self._timetable.forget(self)

    def _must_stand(self) -> None:
        if self.removed:
            raise RigStateError(f"the schedule {self.name!r} is removed")

    # --- what the engine does -----------------------------------------------------------------------

    def plan(self, since: int) -> None:
        """Put the first firing after `since` on the heap."""
        self._due = due = self._next(since)
        if due is None:
            return
        at = due
        if self._late:
            if self.jitter is not None:
                at += self.jitter.late(due)
            if self.poll_ns:
                start = self._timetable.engine.start_ns
                at = start + -(-(at - start) // self.poll_ns) * self.poll_ns
        self._timetable.engine.schedule(at, self.call.type.priority, self._event, due)

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
            # Many firings at once are far cheaper than each by itself; how many a day has is seen at once.
            day = self.schedule.span_ns(first, first + _DAY_NS) if self._bulk else [first]
            found = day if len(day) > 1 else [first]
            stock[:] = [int(ns) for ns in found[:_STOCK]][::-1]
        return stock[-1]

    @property
    def _bulk(self) -> bool:
        return len(self.runs) > 2 and not self._after_end

    def _fire(self, due: int) -> None:
        if self.removed or due != self._due:
            return
        down = self._timetable.down
        if not self._after_end:
            self.plan(due)
        elif self.paused or down:
            self.plan(self._timetable.engine.now)  # no run whose end would plan the next
        if self.paused:
            return
        if down:
            self._unseen.append(due)
            return
        pilot = self._timetable.engine.pilot
        struck = None if pilot is None else pilot.fires(self.name)
        if struck is not None:
            self._strike(due, struck)
            return
        self._take()

    def _strike(self, due: int, fault: Fault) -> None:
        """Let a fault strike a firing: it comes late, or nobody sees it until the scheduler is up again."""
        engine = self._timetable.engine
        if fault.kind == "delay":
            self._timetable.note(f"{self.name}: a firing comes {spell(fault.by_ns)} late")
            engine.plan(engine.now + fault.by_ns, lambda _: self._take(), None)
        else:
            self._unseen.append(due)
            self._timetable.note(f"the scheduler is down for {spell(fault.by_ns)}")
            engine.plan(engine.now + fault.by_ns, lambda _: self.catch_up(), None)

    def _take(self) -> None:
        """Let one firing become a run, as the overlap rule has it."""
        last = self.runs[-1] if self.runs else None
        if self.overlap != "allow" and last is not None and last.state in OPEN:
            if self.overlap == "wait":
                self._waiting += 1
            else:
                self.skipped += 1
                self._timetable.note(f"{self.name}: a firing is left out, {last.id} is still {last.state}")
            return
        self._run()

    def _run(self) -> Job:
        engine, call = self._timetable.engine, self.call
        job = engine.enqueue(call.type, call.args, call.kwargs, engine.now)
        self.runs.append(job)
        if self._watched:
            job.closed = self._closed
        return job

    def _closed(self, job: Job) -> None:
        if self.removed:
            return
        if self.until_done and job.state == "done":
            self.remove()
            return
        if self._after_end:
            self.plan(self._timetable.engine.now)
        elif self._waiting:
            self._waiting -= 1
            self._run()

    def catch_up(self) -> None:
        """Deal with the firings that nobody saw while the scheduler was down."""
        unseen, self._unseen = self._unseen, []
        if not unseen:
            return
        runs = len(unseen) if self.missed == "all" else 1 if self.missed == "last" else 0
        self.skipped += len(unseen) - runs
        self._timetable.note(f"{self.name}: {len(unseen)} firings were missed, {runs} of them run now")
        for _ in range(runs):
            self._take()

    def __repr__(self) -> str:
        state = "removed" if self.removed else "paused" if self.paused else f"next {self.next}"
        return f"<schedule {self.name!r}: {self.schedule.describe()}; {len(self.runs)} runs, {state}>"


class Timetable:
    """The schedules of a rig by name."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.down = False
        """Whether the scheduler is down: firings pass unseen."""
        self._entries: dict[str, Scheduled] = {}

    def add(self, entry: Scheduled) -> None:
        """Add an entry, in place of the one of the same name."""
        old = self._entries.get(entry.name)
        if old is not None:
            old.removed = True
        self._entries[entry.name] = entry
        now = self.engine.now
        pilot = self.engine.pilot
        entry.paused = entry.paused or (pilot is not None and pilot.leaves_out(f"schedule {entry.name}"))
        # What is due at this very instant belongs to it: a rig that starts at 01:30 sees the 01:30 firing.
        entry.plan(now if entry.schedule.from_end else now - 1)

    def forget(self, entry: Scheduled) -> None:
        """Take an entry out."""
        if self._entries.get(entry.name) is entry:
            del self._entries[entry.name]

    def stop(self) -> None:
        """Let the scheduler be down from now on."""
        self.down = True
        self.note("the scheduler is down")

    def start(self) -> None:
        """Let it be up again; each schedule deals with what it missed by its own rule."""
        self.down = False
        self.note("the scheduler is up")
        for entry in list(self._entries.values()):
            entry.catch_up()

    def note(self, text: str) -> None:
        """Put a line into the history."""
        self.engine.history.add((self.engine.now, "note", None, 0, text, 0, None, 0))

    def __getitem__(self, name: str) -> Scheduled:
        found = self._entries.get(name)
        if found is None:
            raise UnknownJob(f"no schedule is called {name!r}; {nearest(str(name), self._entries)}")
        return found

    def __contains__(self, name: Any) -> bool:
        return name in self._entries

    def __iter__(self) -> Iterator[Scheduled]:
        return iter(list(self._entries.values()))

    def __len__(self) -> int:
        return len(self._entries)
