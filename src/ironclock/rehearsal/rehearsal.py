"""`ic.rehearse`: what really happened, as a log tells it, with other policies, workers, schedules or code."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from os import PathLike
from types import ModuleType
from typing import TYPE_CHECKING, Any, Unpack

from ..errors import InputError, must_be_keywords, nearest
from ..foundation.instants import Instant
from ..foundation.paused_collector import paused_collector
from ..history.history import History
from ..history.log_histories import LogKeywords, give_back_memory, log_history
from ..history.narrative import story_of
from ..history.saved_files import is_saved
from ..laws.law import Law
from ..simulation.policy import Policy
from ..simulation.retry import Retry
from .as_logged import as_logged, collect_garbage
from .candidate import (
    Candidate,
    ReadArguments,
    candidate_file,
    candidate_source,
    handlers_of,
    name_of_file,
)
from .fidelity import Fidelity
from .logged_jobs import LoggedJob, logged_jobs
from .outages import LoggedOutage
from .recording import Recording, not_rehearsed
from .redaction import Redaction
from .rehearsed import Comparing, Rehearsed, must_be_figure
from .run import Run, run_of

if TYPE_CHECKING:
    from ..rig import Rig

Log = History | str | PathLike[str] | Sequence[str | PathLike[str]]
Policies = Mapping[str, Policy | Retry | int] | str | PathLike[str] | Sequence[str | PathLike[str]]


@dataclass(frozen=True, kw_only=True)
class Rehearsal:
    """What a log would have been. `ironclock.rehearse` returns it.

    Example::

        rehearsal = ic.rehearse("friday.csv", policies={"submit_manifest": ic.Retry(16, "5m")})
        assert not rehearsal.failing(["dead+"])
    """

    recording: Recording
    """What the log tells."""
    fidelity: Fidelity
    """How much of the log comes back if nothing is changed."""
    as_logged: Run
    """The run in which nothing is changed."""
    candidates: Sequence[Rehearsed]
    """What was rehearsed, in order."""
    notes: Sequence[str]
    """What the log has, and is not rehearsed."""

    @property
    def outages(self) -> Sequence[LoggedOutage]:
        """The outages that the log shows."""
        return self.recording.outages

    def __getitem__(self, name: str) -> Rehearsed:
        """Return a candidate by its name. Raises `InputError`."""
        for candidate in self.candidates:
            if candidate.name == name:
                return candidate
        raise InputError(f"there is no candidate {name!r}; {nearest(name, [one.name for one in self.candidates])}")

    def story(self, job: str, candidate: str | None = None) -> str:
        """Return what happened to a job, as logged and in each candidate. Raises `InputError`.

        Parameters: `job` is its id in the log; `candidate` is the name of one. Default None: all of them.

        Example::

            print(rehearsal.story("j0356"))
        """
        runs = [self.as_logged, *(one.run for one in self.candidates if candidate in (None, one.name))]
        ids = {played.id for run in runs for played in run.jobs}
        if job not in ids:
            raise InputError(f"there is no job {job!r} in the rehearsal; {nearest(job, sorted(ids)[:500])}")
        return "\n".join(f"{run.name}: {story_of(run.history, job)}" for run in runs)

    def failing(self, conditions: Sequence[str]) -> list[str]:
        """Return in words which conditions are met that a candidate must not meet.

        Parameters: `conditions`: each is the name of a figure with ``+``, and by how much more it must not be than as
        logged: ``dead+``, ``p95+10%``, ``attempts+200``. With ``laws+`` no law must be broken that holds as logged,
        with ``later+5`` not more than five jobs must end later, with ``effects-lost+`` no effect must be missing.
        Raises `InputError`.

        Example::

            assert rehearsal.failing(["dead+", "attempts+20%"]) == []
        """
        found = []
        for text in conditions:
            name, more, is_share = _condition(text)
            for candidate in self.candidates:
                before, after = candidate.value(name)
                allowed = before * (1 + more / 100) if is_share else before + more
                if after > allowed + 1e-9:
                    found.append(f"{candidate.name}: {name} is {after:g}, and was {before:g} ({text})")
        return found

    def __repr__(self) -> str:
        names = ", ".join(one.name for one in self.candidates) or "nothing is changed"
        return f"<rehearsal of {self.fidelity.jobs:,} jobs, {self.fidelity.share:.1%} as they were: {names}>"


def must_be_conditions(conditions: Sequence[str]) -> None:
    """Raise `InputError` if a condition is not one that `Rehearsal.failing` takes."""
    for text in conditions:
        _condition(text)


def _condition(text: str) -> tuple[str, float, bool]:
    found = re.fullmatch(r"([a-z][a-z0-9-]*)\+(\d+(?:\.\d+)?)?(%?)", text)
    if found is None or (found[3] and not found[2]):
        raise InputError(
            f"the condition is {text!r}; give the name of a figure and +, such as dead+, p95+10% or attempts+200"
        )
    must_be_figure(found[1])
    return found[1], float(found[2] or 0), bool(found[3])


def rehearse(
    log: Log, *, policies: Policies | None = None, workers: int | None = None,
    jobs: Mapping[str, Callable[..., Any]] | ModuleType | None = None, setup: Callable[[Rig], object] | None = None,
    read_args: ReadArguments | None = None, fails_at: Mapping[str, str] | None = None,
    from_code: Collection[str] = (), since: Instant | None = None, until: Instant | None = None,
    only: Collection[str] = (), sample: float = 1.0, laws: Sequence[Law] = (), replications: int = 1, seed: int = 0,
    redact: bool | str = False, name: str | None = None, progress: Callable[[float], None] | None = None,
    **how: Unpack[LogKeywords],
) -> Rehearsal:  # fmt: skip
    """Let the log of a real run happen once more, with other policies, workers, schedules or code; say what differs.

    First the log is rehearsed with nothing changed. What comes back is compared with the log: `Rehearsal.fidelity`.
    Each candidate is then compared with that run.

    What to rehearse:

    - `log`: the log of a real run, or several, as `log_history` reads them; a saved history; or a `History`.
    - `since`, `until`: only jobs that were enqueued from then on, and before then. Default None: all.
    - `only`: the names of job types. Default: all.
    - `sample`: the share of the jobs of each type, above 0 and at most 1, evenly spread. With less than 1, workers are
      not limited: every job starts when it did. Default 1.
    - `how`: all other keywords of `log_history`, such as `columns` and `zone`.

    What is changed. Whatever is not named here is as in the log:

    - `policies`: by job type, an `ironclock.Policy` (what it leaves at its default is as in the log), a `Retry`, or a
      number of attempts; or a TOML file with ``[jobs.NAME]``, ``[policies.NAME]``, ``[workers]``, ``[queues]`` and
      ``[schedules.NAME]`` as in a scenario, or several such files, each of which is a candidate.
    - `workers`: how many workers there are, in place of those of the log; they serve all queues.
    - `jobs`: the application's own code: by job type, a function; or a module with functions of these names. Without
      it, jobs take as long and fail as in the log.
    - `setup`: is called with the rig before the first job, to make services, effects and taps. Default None.
    - `read_args`: a function that gets what the log has as arguments, and returns a list or a dict of them. Default
      None: they are read as JSON.
    - `fails_at`: by job type, where in its code an attempt fails that failed in the log: ``"start"``, ``"end"``,
      ``"before NAME"`` or ``"after NAME"`` of an effect. Default: at the start.
    - `from_code`: the job types that the code enqueues itself; those of the log are left out. Default: none.
    - `name`: what the candidate is called. Default None: as its file or module.

    What is said:

    - `laws`: `ironclock.laws`, or functions of the world, that are checked as logged and in each candidate.
    - `replications`: how often each candidate is run, with other luck for what the log cannot say, to know the spread
      of the figures. Default 1.
    - `seed`: what all luck follows from. Default 0.
    - `redact`: True: arguments, keys, results and the words of errors are replaced by codes, equal where they were
      equal; or the secret from which the codes follow. Default False.
    - `progress`: a function that gets the share that is done. Default None.

    The model, for what the log cannot say: a failure that belongs to an outage ends with it; all others belong to the
    job, and come in their order. See docs/rehearse.md.

    Raises `LogError`, `ScenarioError`, `InputError`, `PolicyError` or `DurationError`.

    Example::

        rehearsal = ic.rehearse("friday.csv", policies={"submit_manifest": ic.Retry(8, "2m")})
        for change in rehearsal.candidates[0].changes("dead"):
            print(rehearsal.story(change.after.id))
    """
    if isinstance(replications, bool) or not isinstance(replications, int) or replications < 1:
        raise InputError(f"replications is {replications!r}; give a whole number, at least 1")
    if isinstance(sample, bool) or not isinstance(sample, (int, float)) or not 0 < sample <= 1:
        raise InputError(f"sample is {sample!r}; give a share above 0 and at most 1, such as 0.1")
    history, knows_waits = _read(log, how)
    tell = progress or (lambda share: None)
    with paused_collector():
        logged = _jobs_of(history, knows_waits, since, until, only, sample)
        names = dict.fromkeys(job.name for job in logged)
        shared = Candidate(
            name=name or "", source=candidate_source({}, None), given_handlers=handlers_of(jobs, names), setup=setup,
            from_code=frozenset(from_code), fails_at=dict(fails_at or {}), read_args=read_args, is_saved=knows_waits,
        )  # fmt: skip
        candidates = _candidates(shared, policies, workers, jobs)
        for candidate in candidates:
            candidate.must_fit(logged)
        runs = 1 + len(candidates) * replications
        steps = _Steps(tell, runs)
        recording = Recording.of(history, logged, knows_waits, sample < 1.0)
        notes = not_rehearsed(history)
        del history
        collect_garbage(len(logged))
        give_back_memory()
        recording, fidelity, unchanged = as_logged(recording, seed, steps.of_first_run)
        redaction = Redaction(redact if isinstance(redact, str) else None) if redact else None
        shown = _redacted(unchanged, redaction)
        compare = Comparing(shown, laws)
        made = []
        for candidate in candidates:
            run = run_of(recording, candidate, seed=seed, progress=steps.of_run())
            compared = compare.with_run(_redacted(run, redaction))
            if replications > 1:
                more = (
                    run_of(recording, candidate, seed=f"{seed}/{n}", draws_ends=True, progress=steps.of_run())
                    for n in range(1, replications)
                )
                compared = compare.with_spread(compared, more)
            made.append(compared)
    return Rehearsal(recording=recording, fidelity=fidelity, as_logged=shown, candidates=made, notes=notes)


def _read(log: Log, how: Mapping[str, Any]) -> tuple[History, bool]:
    """Return the history of a log, and True if Iron Clock itself has written it: it says how long policies let jobs
    wait."""
    must_be_keywords(how, LogKeywords)
    if isinstance(log, History):
        return log, log.is_live or log.fact("job_types", None) is not None
    if isinstance(log, (str, PathLike)) and not how.get("query") and is_saved(log):
        return History.load(log, how.get("torn")), True
    return log_history(log, **how), False


def _jobs_of(
    history: History, is_saved: bool, since: Instant | None, until: Instant | None, only: Collection[str],
    sample: float,
) -> list[LoggedJob]:  # fmt: skip
    at = history.timeline.ns
    return logged_jobs(
        history, has_results=is_saved, since_ns=None if since is None else at(since, what="since"),
        until_ns=None if until is None else at(until, what="until"), names=[only] if isinstance(only, str) else only,
        share=sample,
    )  # fmt: skip


def _candidates(shared: Candidate, policies: Policies | None, workers: int | None, jobs: object) -> list[Candidate]:
    """Return what is to be rehearsed. Parameters: `shared` has what all of them have in common."""
    if policies is None or isinstance(policies, Mapping):
        if not policies and workers is None and not shared.given_handlers:
            return []
        default = jobs.__name__ if isinstance(jobs, ModuleType) else "candidate"
        if workers is not None and not policies and not shared.given_handlers:
            default = "1 worker" if workers == 1 else f"{workers} workers"
        return [replace(shared, name=shared.name or default, source=candidate_source(policies or {}, workers))]
    paths = [policies] if isinstance(policies, (str, PathLike)) else list(policies)
    made = []
    for path in paths:
        source, folders = candidate_file(path)
        if workers is not None:
            source = source.but({**source.tables, "workers": candidate_source({}, workers).tables["workers"]})
        name = shared.name if shared.name and len(paths) == 1 else name_of_file(path)
        made.append(replace(shared, name=name, source=source, folders=folders))
    names = [candidate.name for candidate in made]
    if len(set(names)) < len(names):
        made = [replace(one, name=str(path)) for one, path in zip(made, paths, strict=True)]
    return made


class _Steps:
    """Tells the share that is done of several runs."""

    def __init__(self, tell: Callable[[float], None], runs: int) -> None:
        self._tell = tell
        self._runs = runs
        self._begun = 1

    def of_first_run(self) -> Callable[[float], None]:
        """Return what is told the share of the first run, which can be made again."""
        return lambda share: self._tell(share / self._runs)

    def of_run(self) -> Callable[[float], None]:
        """Return what is told the share of the next run."""
        number = self._begun
        self._begun += 1
        return lambda share: self._tell((number + share) / self._runs)


def _redacted(run: Run, redaction: Redaction | None) -> Run:
    """Return a run without what could be personal."""
    return run if redaction is None else replace(run, history=redaction.history(run.history))
