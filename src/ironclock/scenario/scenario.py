"""Scenarios: read from a file, run, and compared with what they expect."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from os import PathLike, fspath
from typing import Any

from ..errors import IronClockError, JobsLeftOpen, ScenarioError
from ..foundation.example_files import example
from ..history.history import History
from ..rig import Rig
from .expectations import Outcome, check
from .scenario_rig import World
from .toml_reading import Source, schema
from .values import folders_of

_STEPS = 100


class Ran:
    """The result of a run of a scenario. `Scenario.run` returns it."""

    def __init__(self, scenario: Scenario, rig: Rig, outcomes: Sequence[Outcome], stopped: str) -> None:
        self.scenario = scenario
        """The scenario."""
        self.rig = rig
        """The rig in which it ran."""
        self.outcomes = list(outcomes)
        """Each expectation, and what was found."""
        self.stopped = stopped
        """The error that ended the run early. Empty if none did."""

    @property
    def history(self) -> History:
        """Everything that happened."""
        return self.rig.history

    @property
    def met(self) -> bool:
        """True if everything is as expected."""
        return not self.stopped and all(outcome.met for outcome in self.outcomes)

    def check(self) -> None:
        """Raise `AssertionError` if anything is not as expected. The message has all of it.

        Example::

            ic.Scenario.load("harbour_outage.toml").run().check()
        """
        missed = [f"  line {o.line}: {o.words}: {o.found}" for o in self.outcomes if not o.met]
        if self.stopped:
            missed.insert(0, f"  {self.stopped}")
        if missed:
            raise AssertionError(f"{self.scenario.name}: not as expected\n" + "\n".join(missed))

    def __repr__(self) -> str:
        met = sum(outcome.met for outcome in self.outcomes)
        return f"<run of {self.scenario.name}: {met} of {len(self.outcomes)} as expected>"


class Scenario:
    """A scenario file: a world, its jobs, its faults and what is expected. See docs/scenario.md.

    Example::

        ic.Scenario.load("harbour_outage.toml").run().check()
    """

    def __init__(self, source: Source, folders: Sequence[str] = ()) -> None:
        self._source = source
        self._folders = list(folders)

    @classmethod
    def load(cls, path: str | PathLike[str]) -> Scenario:
        """Read a scenario file.

        Parameters: `path` is the file; one that begins with ``examples/`` is found from every folder. Raises
        `ScenarioError`, with file, line, column and what is expected there, for
        text that is not TOML, for keys and values that the schema does not have, and for a file that cannot be read.

        Example::

            scenario = ic.Scenario.load("harbour_outage.toml")
        """
        place = example(fspath(path))
        return cls(Source.read(place), folders_of(place))

    @classmethod
    def loads(cls, text: str, name: str = "scenario.toml") -> Scenario:
        """Read a scenario from `text`, which is TOML. `name` is its name in error messages. Raises `ScenarioError`.

        Example::

            text = "\\n".join(["[jobs.weigh]", "takes = '2s'", "[[enqueue]]", "job = 'weigh'"])
            ic.Scenario.loads(text).run().check()
        """
        return cls(Source(name, text), folders_of(name))

    @staticmethod
    def schema() -> dict[str, Any]:
        """Return the JSON Schema (draft 2020-12) of scenario files.

        Example::

            assert "jobs" in ic.Scenario.schema()["properties"]
        """
        made: dict[str, Any] = json.loads(json.dumps(schema()))
        return made

    @property
    def name(self) -> str:
        """The name of the file."""
        return self._source.name

    @property
    def title(self) -> str:
        """Its title."""
        return str(self._source.tables.get("title", self.name))

    @property
    def source(self) -> Source:
        """Its tables, with the place of each key in the file."""
        return self._source

    def world(self, seed: int | str | None = None, load: float = 1.0, prepare: bool = True) -> World:
        """Return its world, not run yet. Parameters as in `run`; `prepare`: True calls its `setup`. Parameters: `seed`
        is in place of that of the file; `load` is a factor for all arrivals."""
        return World(self._source, self._folders, seed, load, prepare)

    def with_policy(self, policy: str, among: Sequence[str], job: str | None = None) -> Scenario:
        """Return this scenario with another policy for a job, or for every job that has one of the policies in `among`.
        Raises `ScenarioError`. Parameters: `policy` is the table of a policy; `job` is the job."""
        self._source.known("policies", policy)
        tables = self._source.tables
        if job is not None:
            self._source.known("jobs", job)
        chosen = [job] if job is not None else [n for n, t in tables["jobs"].items() if t.get("policy") in among]
        if not chosen:
            raise self._source.error(f"no job has one of the policies {' and '.join(among)}; name the job")
        jobs = {n: {**t, "policy": policy} if n in chosen else t for n, t in tables["jobs"].items()}
        return Scenario(self._source.but({**tables, "jobs": jobs}), self._folders)

    def run(
        self, seed: int | str | None = None, load: float = 1.0, progress: Callable[[float], None] | None = None
    ) -> Ran:
        """Run it; return the result.

        Parameters:

        - `seed`: the seed. Default None: that of the file.
        - `load`: every rate and count is multiplied by this. Default 1.
        - `progress`: a function that gets the share that is done, from 0 to 1. Default None.

        Raises `ScenarioError` for a world that cannot be built. An error of Iron Clock in the run ends the run.

        Example::

            ran = ic.Scenario.load("harbour_outage.toml").run(seed=3)
            print(ran.history.story())
        """
        world = self.world(seed, load)
        rig = world.rig
        stopped = ""
        try:
            with rig:
                world.begin()
                until = world.last if world.length_ns is None else world.start + world.length_ns
                advance_in_steps(rig, until, progress)
                if world.length_ns is None:
                    rig.run_dry()
        except JobsLeftOpen as error:
            stopped = str(error)
        except IronClockError as error:
            stopped = f"{type(error).__name__}: {error}"
        except Exception as error:
            # Raised by the real code that the file calls, outside any job.
            stopped = f"the run was ended by {type(error).__name__}: {error}"
        outcomes = check(self._source, rig)
        rig.close()
        return Ran(self, rig, outcomes, stopped)

    def __repr__(self) -> str:
        return f"<scenario {self.name}: {len(self._source.tables['jobs'])} jobs>"


def advance_in_steps(rig: Rig, until: int, progress: Callable[[float], None] | None) -> None:
    """Advance to an instant, in steps if somebody wants to know the progress. The steps change nothing else."""
    timeline = rig.history.timeline
    start = timeline.ns(rig.now)
    for step in range(1, _STEPS if progress is not None else 1):
        rig.advance_to(timeline.at(start + (until - start) * step // _STEPS))
        if progress is not None:
            progress(step / _STEPS)
    rig.advance_to(timeline.at(until))


__all__ = ["Outcome", "Ran", "Scenario", "ScenarioError"]
