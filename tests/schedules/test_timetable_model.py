"""A walk over minutes, written apart from the timetable, sees the same runs of schedules that are changed meanwhile."""

from __future__ import annotations

import random
import time
from dataclasses import dataclass, field

from hypothesis import given, settings
from hypothesis import strategies as st

import ironclock as ic

NAMES = ("north", "south")


@dataclass
class Entry:
    """A schedule of the model: it fires at these minutes of each hour."""

    minutes: frozenset[int]
    overlap: str
    missed: str
    argument: int
    paused: bool = False
    unseen: list[int] = field(default_factory=list)
    waiting: int = 0


class Model:
    """What docs/schedules.md says, minute by minute. There are workers enough, and each run takes some minutes and one
    second, so that no run ends when another one is due."""

    def __init__(self, takes: int) -> None:
        self.now = 0  # in seconds
        self.takes = takes
        self.down = False
        self.entries: dict[str, Entry] = {}
        self.fired: dict[str, int] = {}
        self.runs: list[tuple[int, str, int]] = []
        self.open_until: dict[str, int] = {}  # by name, the end of the last run

    def add(self, name: str, entry: Entry) -> None:
        old = self.entries.get(name)
        if old is not None:
            entry.unseen, entry.waiting = old.unseen, old.waiting
        self.entries[name] = entry
        self.fire(name)  # what is due now counts, if it has not fired

    def remove(self, name: str) -> None:
        self.entries.pop(name, None)
        self.open_until.pop(name, None)

    def start(self) -> None:
        self.down = False
        for name, entry in self.entries.items():
            unseen, entry.unseen = entry.unseen, []
            count = {"all": len(unseen), "last": min(1, len(unseen)), "none": 0}[entry.missed]
            for _ in range(0 if entry.paused else count):
                self.take(name, entry)

    def advance(self, minutes: int) -> None:
        for _ in range(minutes):
            self.now += 60
            for name, entry in self.entries.items():
                while entry.waiting and self.open_until[name] < self.now:
                    entry.waiting -= 1
                    self.run(name, entry, self.open_until[name])
            for name in list(self.entries):
                self.fire(name)

    def fire(self, name: str) -> None:
        entry = self.entries[name]
        if self.now // 60 % 60 not in entry.minutes or self.fired.get(name) == self.now:
            return
        self.fired[name] = self.now
        if entry.paused:
            return
        if self.down:
            entry.unseen.append(self.now)
        else:
            self.take(name, entry)

    def take(self, name: str, entry: Entry) -> None:
        if entry.overlap == "allow" or self.open_until.get(name, -1) <= self.now:
            self.run(name, entry, self.now)
        elif entry.overlap == "wait":
            entry.waiting += 1

    def run(self, name: str, entry: Entry, at: int) -> None:
        self.runs.append((at, name, entry.argument))
        self.open_until[name] = at + self.takes


def must_agree(seed: int) -> None:
    chance = random.Random(seed)
    takes = chance.choice([3, 7, 25]) * 60 + 1
    model = Model(takes)
    with ic.Rig(start="2031-03-03T00:00") as rig:
        begin = rig.now
        rig.workers(500)
        kind = rig.job(lambda name, argument: time.sleep(takes), name="sail")
        for step in range(chance.randrange(2, 12)):
            name = chance.choice(NAMES)
            what = chance.choice(["add", "add", "pause", "resume", "remove", "stop", "start", "nothing"])
            if what == "add":
                minutes = frozenset(chance.sample(range(60), chance.choice([1, 4, 20])))
                overlap, missed = chance.choice(["allow", "skip", "wait"]), chance.choice(["all", "last", "none"])
                if name in model.entries and model.entries[name].waiting:
                    overlap = "wait"  # what waits comes after the run before; others in between would be ambiguous
                expression = f"{','.join(map(str, sorted(minutes)))} * * * *"
                rig.schedule(name, kind.call(name, step), expression, overlap=overlap, missed=missed)  # type: ignore[arg-type]
                model.add(name, Entry(minutes, overlap, missed, step))
            elif what in ("pause", "resume") and name in model.entries:
                getattr(rig.schedules[name], what)()
                model.entries[name].paused = what == "pause"
            elif what == "remove" and name in model.entries:
                rig.schedules[name].remove()
                model.remove(name)
            elif what == "stop" and not model.down:
                rig.schedules.stop()
                model.down = True
            elif what == "start" and model.down:
                rig.schedules.start()
                model.start()
            rig.settle()
            minutes_on = chance.randrange(1, 90)
            rig.advance(minutes_on * 60)
            model.advance(minutes_on)
        found = [(round((job.enqueued_at - begin).total_seconds()), *job.args) for job in rig.jobs()]
    # Which of two schedules comes first at one instant is not the business of the model.
    assert sorted(found) == sorted(model.runs), f"seed {seed}"


@settings(max_examples=150)
@given(st.integers(0, 10**9))
def test_the_timetable_does_what_a_walk_over_minutes_does(seed: int) -> None:
    must_agree(seed)
