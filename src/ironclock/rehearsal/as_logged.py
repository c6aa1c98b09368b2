"""The run in which nothing is changed: how much of a log comes back, and what each candidate is compared with."""

from __future__ import annotations

import gc
from collections.abc import Callable

from .candidate import Candidate, candidate_source
from .fidelity import Fidelity, fidelity_of, with_digests
from .logged_jobs import resolution_of
from .recording import Recording
from .run import Run, run_of

AS_LOGGED = "the log"
"""What the run is called in which nothing is changed."""
_TURNS = 3
"""How often what came back is compared with the log, to find what the model of the queue does not explain."""
_LARGE = 20_000
"""From how many jobs on it pays to look for garbage after a run."""


def as_logged(
    recording: Recording, seed: int, steps: Callable[[], Callable[[float], None]]
) -> tuple[Recording, Fidelity, Run]:
    """Rehearse a log with nothing changed. Jobs that do not come back as they were wait, in a second turn, as long as
    the log says, for a reason that it does not tell.

    Parameters: `steps` returns, for each turn, what is told the share that is done. Returns the recording with that,
    how much of it came back, and the run.
    """
    candidate = Candidate(name=AS_LOGGED, source=candidate_source({}, None))
    resolution = resolution_of(recording.jobs)
    jobs = recording.jobs

    def turn(held: frozenset[int]) -> tuple[Recording, Fidelity, Run]:
        holding = recording.holding(held)
        run = run_of(holding, candidate, seed=seed, progress=steps())
        count = 0 if recording.is_sample else len(held)
        return holding, fidelity_of(jobs, run.by_number, resolution, recording.end_ns, count), run

    held = frozenset(range(len(jobs))) if recording.is_sample else frozenset()
    best = turn(held)
    for _ in range(_TURNS - 1):
        differing = frozenset(best[1].differing)
        if differing <= held:
            break
        share = best[1].share
        del best  # two runs of a large log need much memory
        collect_garbage(len(jobs))
        best = turn(held | differing)
        if best[1].share <= share:
            del best
            best = turn(held)
            break
        held |= differing
    holding, fidelity, run = best
    if recording.knows_waits:
        fidelity = with_digests(fidelity, jobs, run.by_number, recording.end_ns)
    return holding, fidelity, run


def collect_garbage(jobs: int) -> None:
    """Let the garbage of a run of so many jobs go. (The parts of a rig know one another.)"""
    if jobs >= _LARGE:
        gc.collect()
