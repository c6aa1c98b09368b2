"""A scenario: read from a file, run, and held against what it expects."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from os import PathLike, fspath
from typing import Any

from ..core.errors import IronClockError, NotDry
from ..core.history import History
from ..rig import Rig
from .expect import Outcome, check
from .parts import folders_of
from .reading import ScenarioError, Source, schema
from .world import World

_STEPS = 100


class Ran:
    """What a scenario's run came to."""

    def __init__(self, scenario: Scenario, rig: Rig, outcomes: Sequence[Outcome], stopped: str) -> None:
        self.scenario = scenario
        self.rig = rig
        self.outcomes = list(outcomes)
        """Each expectation, and what came of it."""
        self.stopped = stopped
        """What ended the run before its time; empty where nothing did."""

    @property
    def history(self) -> History:
        """Everything that happened."""
        return self.rig.history

    @property
    def met(self) -> bool:
        """Whether everything is as expected."""
        return not self.stopped and all(outcome.met for outcome in self.outcomes)

    def check(self) -> None:
        """Raise `AssertionError` with everything that is not as expected."""
        missed = [f"  line {o.line}: {o.words}: {o.found}" for o in self.outcomes if not o.met]
        if self.stopped:
            missed.insert(0, f"  {self.stopped}")
        if missed:
            raise AssertionError(f"{self.scenario.name}: not as expected\n" + "\n".join(missed))

    def __repr__(self) -> str:
        met = sum(outcome.met for outcome in self.outcomes)
        return f"<run of {self.scenario.name}: {met} of {len(self.outcomes)} as expected>"


class Scenario:
    """A world, its jobs, its faults and what is expected of them. See `Scenario.load` and docs/scenario.md."""

    def __init__(self, source: Source, folders: Sequence[str] = ()) -> None:
        self._source = source
        self._folders = list(folders)

    @classmethod
    def load(cls, path: str | PathLike[str]) -> Scenario:
        """Read a scenario file.

        Raises `ScenarioError` with file, line, column and what would be right, for text that is no TOML, for keys and
        values that the schema does not know, and for a file that cannot be read.
        """
        return cls(Source.read(fspath(path)), folders_of(fspath(path)))

    @classmethod
    def loads(cls, text: str, name: str = "scenario.toml") -> Scenario:
        """Read a scenario from text; `name` stands for the file in errors."""
        return cls(Source(name, text), folders_of(name))

    @staticmethod
    def schema() -> dict[str, Any]:
        """Return the JSON Schema (draft 2020-12) of scenario files."""
        made: dict[str, Any] = json.loads(json.dumps(schema()))
        return made

    @property
    def name(self) -> str:
        """The file's name."""
        return self._source.name

    @property
    def title(self) -> str:
        """What it is about."""
        return str(self._source.tables.get("title", self.name))

    @property
    def source(self) -> Source:
        """Its tables, and where each of their keys stands."""
        return self._source

    def world(self, seed: int | str | None = None, load: float = 1.0, prepare: bool = True) -> World:
        """Return its world, set up and not yet run. See `run`; `prepare` says whether its `setup` is called."""
        return World(self._source, self._folders, seed, load, prepare)

    def with_policy(self, policy: str, among: Sequence[str], job: str | None = None) -> Scenario:
        """Return this scenario with a policy of its own for a job: for the one that is named, or for every job that
        has one of `among`. Raises `ScenarioError`."""
        self._source.known("policies", policy)
        tables = self._source.tables
        if job is not None:
            self._source.known("jobs", job)
        chosen = [job] if job is not None else [n for n, t in tables["jobs"].items() if t.get("policy") in among]
        if not chosen:
            raise self._source.error(f"no job has one of the policies {' and '.join(among)}; say which job is meant")
        jobs = {n: {**t, "policy": policy} if n in chosen else t for n, t in tables["jobs"].items()}
        return Scenario(self._source.but({**tables, "jobs": jobs}), self._folders)

    def run(
        self, seed: int | str | None = None, load: float = 1.0, progress: Callable[[float], None] | None = None
    ) -> Ran:
        """Run it; return what came of it.

        Parameters: `seed` in place of the file's own; `load` what every rate and count is multiplied by; `progress`
        is told the share that is done. Raises `ScenarioError` for a world that cannot be set up; an error of the
        library during the run ends it.
        """
        world = self.world(seed, load)
        rig = world.rig
        stopped = ""
        try:
            with rig:
                world.begin()
                _advance(rig, world.last if world.length_ns is None else world.start + world.length_ns, progress)
                if world.length_ns is None:
                    rig.run_dry()
        except NotDry as error:
            stopped = str(error)
        except IronClockError as error:
            stopped = f"{type(error).__name__}: {error}"
        except Exception as error:
            # What the real code that the file calls raised, outside of any job.
            stopped = f"the run was ended by {type(error).__name__}: {error}"
        outcomes = check(self._source, rig)
        rig.close()
        return Ran(self, rig, outcomes, stopped)

    def __repr__(self) -> str:
        return f"<scenario {self.name}: {len(self._source.tables['jobs'])} jobs>"


def _advance(rig: Rig, until: int, progress: Callable[[float], None] | None) -> None:
    """Advance to an instant, in steps where somebody wants to know how far it is: that changes nothing else."""
    timeline = rig.history.timeline
    start = timeline.ns(rig.now)
    for step in range(1, _STEPS if progress is not None else 1):
        rig.advance_to(timeline.at(start + (until - start) * step // _STEPS))
        if progress is not None:
            progress(step / _STEPS)
    rig.advance_to(timeline.at(until))


__all__ = ["Outcome", "Ran", "Scenario", "ScenarioError"]
