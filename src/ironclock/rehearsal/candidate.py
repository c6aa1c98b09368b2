"""Candidates: what is to be another than in the log. Policies, workers, queues and schedules as a scenario writes them,
and the real code of jobs."""

from __future__ import annotations

import inspect
import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields
from functools import cache, cached_property
from os import PathLike, fspath
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING, Any

from ..errors import InputError, ScenarioError, nearest
from ..foundation.example_files import example
from ..scenario.toml_reading import Source, schema
from ..scenario.values import callable_of, folders_of
from ..simulation.policy import Policy
from ..simulation.retry import Retry
from .logged_jobs import LoggedJob

if TYPE_CHECKING:
    from ..rig import Rig

_KEYS = ("setup", "workers", "queues", "policies", "jobs", "taps", "effects", "schedules")
_NOT_OF_JOBS = ("takes", "fails", "calls")
_PLACES = ("start", "end")
_NO_FILE = "no file"

ReadArguments = Callable[[Any], Any]


@cache
def candidate_schema() -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of a file that says what is to be another than in the log."""
    made: dict[str, Any] = json.loads(json.dumps(schema()))
    made |= {
        "$id": "urn:ironclock:candidate:1",
        "title": "Iron Clock candidate, version 1",
        "description": "What is to be another than in the log, for ironclock rehearse. Written in TOML.",
        "properties": {key: made["properties"][key] for key in _KEYS},
    }
    made.pop("required", None)
    of_jobs = made["properties"]["jobs"]["additionalProperties"]["properties"]
    for key in _NOT_OF_JOBS:
        del of_jobs[key]
    return made


@dataclass(frozen=True, kw_only=True)
class Candidate:
    """What is to be another than in the log. Whatever it does not say is as in the log."""

    name: str
    source: Source
    folders: Sequence[str] = ()
    given_handlers: Mapping[str, Callable[..., Any]] = field(default_factory=dict)
    """The application's own code, by job type, that is not in the file."""
    setup: Callable[[Rig], object] | None = None
    """Is called with the rig before the first job comes in."""
    from_code: frozenset[str] = frozenset()
    """The job types that the code enqueues: those of the log are left out."""
    fails_at: Mapping[str, str] = field(default_factory=dict)
    """By job type, where in its code an attempt fails that failed in the log."""
    read_args: ReadArguments | None = None
    is_saved: bool = False
    """True if the log is a saved history, which has arguments and not their text."""

    @property
    def tables(self) -> dict[str, Any]:
        """Its tables, as a scenario has them."""
        return self.source.tables

    @cached_property
    def handlers(self) -> Mapping[str, Callable[..., Any]]:
        """The application's own code, by job type."""
        in_file = {}
        for name, table in self.tables.get("jobs", {}).items():
            if "call" in table:
                with self.source.at("jobs", name, "call"):
                    in_file[name] = callable_of(table["call"], self.folders)
        return {**in_file, **self.given_handlers}

    @property
    def scheduled(self) -> frozenset[str]:
        """The job types whose schedules are another: those of the log are left out."""
        return frozenset(schedule["job"] for schedule in self.tables.get("schedules", {}).values())

    def table_of(self, name: str) -> dict[str, Any]:
        """Return what it says of a job type. Empty: nothing."""
        table = self.tables.get("jobs", {}).get(name, {})
        shared = self.tables.get("policies", {}).get(table.get("policy"), {})
        own = {**shared, **{key: value for key, value in table.items() if key != "policy"}}
        if name in self.handlers:
            own["call"] = self.handlers[name]
        return own

    def arguments_of(self, job: LoggedJob) -> tuple[tuple[Any, ...], dict[str, Any]]:
        """Return the arguments of a job of the log: for real code as JSON says them, or as `read_args` reads them."""
        if job.name not in self.handlers or (self.read_args is None and self.is_saved):
            return job.args, job.kwargs or {}
        text = job.args[0] if job.args else ""
        if self.read_args is not None:
            try:
                value = self.read_args(text)
            except Exception as error:
                words = f"the arguments {text!r} of {job.id} cannot be read: {type(error).__name__}: {error}"
                raise InputError(words) from error
        elif not job.args:
            return (), {}
        else:
            try:
                value = json.loads(text)
            except ValueError:
                value = text
        if isinstance(value, dict):
            return (), value
        return (tuple(value), {}) if isinstance(value, (list, tuple)) else ((value,), {})

    def must_fit(self, jobs: Iterable[LoggedJob]) -> None:
        """Raise `InputError` if it names what the log does not have, or its code does not take the arguments."""
        first: dict[str, LoggedJob] = {}
        for job in jobs:
            first.setdefault(job.name, job)
        for name in self.tables.get("jobs", {}):
            if name not in first:
                raise self._error(f"the log has no job {name!r}; {nearest(name, first)}", "jobs", name)
        self._must_use_policies(first)
        for number, schedule in self.tables.get("schedules", {}).items():
            if schedule["job"] not in first:
                words = f"the log has no job {schedule['job']!r}; {nearest(schedule['job'], first)}"
                raise self._error(words, "schedules", number, "job")
        for name in (*self.from_code, *self.fails_at):
            if name not in first:
                raise InputError(f"the log has no job {name!r}; {nearest(name, first)}")
        for name, place in self.fails_at.items():
            if name not in self.handlers:
                raise InputError(f"attempts of {name} are to fail at {place!r}, and no code is given for {name}")
            if place not in _PLACES and place.partition(" ")[0] not in ("before", "after"):
                raise InputError(
                    f"attempts of {name} are to fail at {place!r}; give 'start', 'end', or 'before NAME' or "
                    "'after NAME' of an effect"
                )
        for name, fn in self.handlers.items():
            self._must_take(fn, first[name])

    def _error(self, words: str, *path: str) -> InputError | ScenarioError:
        """Return an error that names the place in the file, if there is one."""
        return InputError(words) if self.source.name == _NO_FILE else self.source.error(words, *path)

    def _must_use_policies(self, names: Iterable[str]) -> None:
        used = {table.get("policy") for table in self.tables.get("jobs", {}).values()}
        for policy in used - {None}:
            self.source.known("policies", str(policy), "jobs")
        for policy in self.tables.get("policies", {}):
            if policy not in used:
                known = ", ".join(sorted(names))
                words = f"no job has the policy {policy!r}; write [jobs.NAME] with policy = {policy!r}; jobs: {known}"
                raise self._error(words, "policies", policy)

    def _must_take(self, fn: Callable[..., Any], job: LoggedJob) -> None:
        try:
            signature = inspect.signature(fn)
        except (TypeError, ValueError):  # a builtin without one
            return
        args, kwargs = self.arguments_of(job)
        try:
            signature.bind(*args, **kwargs)
        except TypeError as error:
            has = f"the arguments {job.args!r}" if job.args or job.kwargs else "no arguments"
            raise InputError(
                f"{job.name}{signature} does not take what the log has: {job.id} has {has} ({error}). Say which "
                "column has them, as in --column args=COLUMN, or give a function that reads them (read_args)"
            ) from None


def candidate_file(path: str | PathLike[str]) -> tuple[Source, list[str]]:
    """Return the tables of a file that says what is to be another than in the log, and the folders in which its
    callables are. Raises `ScenarioError`."""
    place = example(fspath(path))
    return Source.read(place, candidate_schema()), folders_of(place)


def candidate_source(policies: Mapping[str, Policy | Retry | int], workers: object) -> Source:
    """Return the tables of policies by job type, and of workers, that are given in code. Raises `InputError`."""
    jobs: dict[str, Any] = {}
    for name, policy in policies.items():
        if isinstance(policy, (Retry, int)) and not isinstance(policy, bool):
            policy = Policy(retry=policy)
        if not isinstance(policy, Policy):
            raise InputError(
                f"the policy of {name} is {policy!r}; give an ic.Policy, an ic.Retry or a number of attempts"
            )
        # A value that is left at its default says nothing. (`Retry(1)` is equal to the default, and was given.)
        jobs[name] = {
            one.name: getattr(policy, one.name)
            for one in fields(policy)
            if getattr(policy, one.name) is not one.default
        }
    tables: dict[str, Any] = {"jobs": jobs}
    if workers is not None:
        if isinstance(workers, bool) or not isinstance(workers, int) or workers < 1:
            raise InputError(f"workers is {workers!r}; give how many there are, at least 1")
        tables["workers"] = [{"count": workers}]
    return Source(_NO_FILE, "", candidate_schema()).but(tables)


def handlers_of(
    given: Mapping[str, Callable[..., Any]] | ModuleType | None, names: Iterable[str]
) -> dict[str, Callable[..., Any]]:
    """Return the code of job types by their names. Of a module it is the functions of these names, or of their last
    parts. Raises `InputError`."""
    known = list(names)
    if given is None:
        return {}
    if isinstance(given, ModuleType):
        found = {}
        for name in known:
            short = name.replace(":", ".").rpartition(".")[2]
            code = getattr(given, short, None)
            if callable(code):
                found[name] = code
        if not found:
            raise InputError(f"{given.__name__} has no function for a job of the log; jobs: {', '.join(sorted(known))}")
        return found
    for name, code in given.items():
        if name not in known:
            raise InputError(f"the log has no job {name!r}; {nearest(name, known)}")
        if not callable(code):
            raise InputError(f"the code of {name} is {code!r}, which cannot be called; give a function")
    return dict(given)


def name_of_file(path: str | PathLike[str]) -> str:
    """Return what a candidate of a file is called."""
    return Path(fspath(path)).stem
