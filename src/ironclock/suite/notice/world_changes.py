"""The changes of a world: of the policies, schedules, effects and transactions that a rig of a test has touched."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from typing import Any, TypeVar

from ...errors import PolicyError
from ...foundation.durations import NS, spell, to_ns
from ...rig import Rig, simulation_of
from ...schedules.cron import Cron
from ...schedules.schedule import Schedule
from ...schedules.sets import Shifted
from ...schedules.timetable import Scheduled
from ...simulation.policy import JobType, Policy
from ...simulation.retry import Curve, Listed, Retry, Wait
from ...simulation.simulation import Simulation
from ...simulation.world_change import Enqueued, Planned, WorldChange
from .change import Change

T = TypeVar("T")
_MINUTE, _HOUR, _DAY = 60 * NS, 3_600 * NS, 86_400 * NS
_UTC = dt.timezone.utc
_OF_RETRY = ("attempts", "wait", "on", "never_on", "drop_on", "within", "budget", "reserve")
_ADDRESS = re.compile(r" at 0x[0-9a-f]+")
_MOST_FAILURES = 12  # so many failed attempts are placed at most, to come to a cap


def changes_of_world(rig: Rig) -> Iterator[Change]:
    """Yield every change of the places that a rig has touched. Parameters: `rig` is the rig, at its end."""
    simulation = simulation_of(rig)
    types: dict[str, JobType[..., object]] = {}
    delayed: dict[str, int] = {}
    for job in simulation.broker.jobs:
        types.setdefault(job.type.name, job.type)
    columns = (simulation.history.column(name) for name in ("what", "job", "detail", "ns"))
    for what, job, due, ns in zip(*columns, strict=True):
        if what == "enqueued" and job is not None and type(due) is int and due > ns:
            delayed[job.type.name] = due - ns
    for entry in rig.schedules:
        types.setdefault(entry.call.type.name, entry.call.type)
        yield from _of_schedule(entry)
        delayed.pop(entry.call.type.name, None)
    for name, job_type in types.items():
        yield from _of_policy(name, job_type.asked)
        yield from _of_enqueue(name, job_type, delayed.get(name, 0))
    yield from _of_transactions(simulation)
    for name in simulation.broker.with_rows:
        yield Change(
            "job", name, "its row in the outbox stays as it was", "the row of a job that has ended says so",
            "the row of a job that has ended is as it was", 70, WorldChange(keeps_rows=name),
        )  # fmt: skip
    if simulation.shutdown.gave_time:
        yield Change(
            "job", "workers", "a shutdown gives no time", "running jobs can end in the time of grace",
            "running jobs are stopped at once", 50, WorldChange(no_grace=True),
            missing="no test has a job that uses the time",
        )  # fmt: skip
    for effect in dict.fromkeys(one.name for one in simulation.effects):
        yield from _of_effect(simulation, effect)


def _counted(name: str, to: Callable[[T], T]) -> tuple[Callable[[str, T], T], list[str]]:
    """Return what changes the thing of this name alone, and a list that gets an entry each time."""
    applied: list[str] = []

    def changed(asked_name: str, asked: T) -> T:
        if asked_name != name:
            return asked
        applied.append(name)
        return to(asked)

    return changed, applied


# --- policies -----------------------------------------------------------------------------------------


def _of_policy(name: str, policy: Policy) -> Iterator[Change]:
    retry = policy.retry
    assert isinstance(retry, Retry)
    fails = f"rig.faults.fail({name!r}, attempts=range(1, {retry.attempts + 1}))"
    once = f"rig.faults.fail({name!r}, attempts=1)"
    never = "no test lets it fail"

    def change(
        words: str, weight: int, of_retry: Mapping[str, object], reach: str = "", missing: str = "", imports: str = "",
        **fields: object,
    ) -> Iterator[Change]:  # fmt: skip
        made = _changed(policy, of_retry, fields)
        if made is None:
            return
        shape, applied = _shape(policy), []  # type: tuple[object, ...], list[str]

        def holds(asked_name: str, asked: Policy) -> Policy:
            if asked_name != name or _shape(asked) != shape:
                return asked
            applied.append(name)
            return _changed(asked, of_retry, fields) or asked

        yield Change(
            "job", name, words, _told(policy), _told(made), weight, WorldChange(policy=holds),
            reach=(reach,) if reach else (), missing=missing, imports=imports, applied=applied,
        )  # fmt: skip

    was = f"instead of {retry.attempts}"
    if retry.attempts > 1:
        yield from change(f"1 attempt {was}", 100, {"attempts": 1}, once, never)
        if retry.attempts > 2:
            fewer = retry.attempts - 1
            rarely = f"no test lets it fail {fewer} times"
            yield from change(f"{fewer} attempts {was}", 50, {"attempts": fewer}, fails, rarely)
        more = f"no test lets it fail {retry.attempts} times"
        yield from change(f"{retry.attempts + 1} attempts {was}", 40, {"attempts": retry.attempts + 1}, fails, more)
        for words, weight, wait, reach in _waits(name, retry):
            yield from change(words, weight, {"wait": wait}, reach, never)
    for errors, words in ((retry.never_on, "never_on"), (retry.drop_on, "drop_on")):
        for error in errors:
            left = tuple(one for one in errors if one is not error)
            what = f"{error.__name__} is treated as other errors are, and not as {words} says"
            reach = f"rig.faults.fail({name!r}, attempts=1, error={error.__name__})"
            yield from change(
                what,
                70,
                {words: left},
                reach,
                f"no test lets it fail with {error.__name__}",
                imports=_import_of(error),
            )
    if retry.within is not None:
        yield from change("no limit within which it is tried", 40, {"within": None}, fails, never)
    if policy.timeout is not None:
        timeout = to_ns(policy.timeout)
        slow = f"rig.faults.slow({name!r}, by={spell(timeout * 2)!r})"
        rather = f"rig.faults.slow({name!r}, by={spell(timeout * 3 // 4)!r})"
        missing = "no test lets it take that long"
        yield from change("no timeout", 80, {}, slow, missing, timeout=None)
        yield from change(
            f"a timeout of {spell(timeout // 2)} instead of {spell(timeout)}", 30, {}, rather, missing,
            timeout=dt.timedelta(microseconds=timeout // 2_000),
        )  # fmt: skip
    if policy.lease is not None:
        lease = to_ns(policy.lease)
        yield from change(
            f"a lease of {spell(max(1, lease // 100))} instead of {spell(lease)}", 60, {},
            f"rig.faults.slow({name!r}, by={spell(lease // 2)!r})", "no test has a job that works for long",
            lease=dt.timedelta(microseconds=max(1, lease // 100_000)),
        )  # fmt: skip
    if policy.expires is not None:
        yield from change("it never expires", 60, {}, "", "no test lets it wait for that long", expires=None)
    if policy.unique is not None:
        yield from change("it is not unique", 70, {}, "", "no test enqueues it twice", unique=None)
    if policy.only_while:
        missing = f"no test has {' and '.join(policy.only_while)} off while it is due"
        yield from change("its conditions always hold", 70, {}, "", missing, only_while=())
    if retry.attempts > 1 or retry.never_on or retry.drop_on:
        yield Change(
            "job", name, "its dead letters are dropped without a word", "a job that fails for good is a dead letter",
            "a job that fails for good is dropped", 90, WorldChange(dead=name), reach=(fails,),
            missing="no test lets it fail for good",
        )  # fmt: skip


def _import_of(error: type[BaseException]) -> str:
    """Return the statement that imports an error, empty for one that needs none or that cannot be imported."""
    if error.__module__ == "builtins" or "." in error.__qualname__:
        return ""
    return f"from {error.__module__} import {error.__name__}"


def _waits(name: str, retry: Retry) -> Iterator[tuple[str, int, Wait, str]]:
    """Yield other waits of a retry: the words, the weight, the wait, and a line that lets it fail often enough."""
    wait = retry.wait
    once = f"rig.faults.fail({name!r}, attempts=1)"
    twice = f"rig.faults.fail({name!r}, attempts=(1, 2))"
    if isinstance(wait, Listed):
        first, rest = wait.waits[0], wait.waits[1:]
        for factor, words in ((0.5, "halved"), (2, "doubled")):
            if first:
                yield f"the first wait {words}", 20, Listed((int(first * factor), *rest)), once
        return
    if not isinstance(wait, Curve):
        return
    if wait.first:
        yield "the first wait halved", 20, replace(wait, first=wait.first // 2), once
        if wait.first * 2 <= wait.cap:
            yield "the first wait doubled", 20, replace(wait, first=wait.first * 2), once
    if wait.factor != 1.0 and retry.attempts > 2:
        yield "the same wait each time, and no longer one", 40, replace(wait, factor=1.0), twice
    if wait.cap < _longest(wait, retry.attempts):
        number, at = 1, wait.first
        while at <= wait.cap and number < _MOST_FAILURES:
            number, at = number + 1, round(at * wait.factor) + wait.step
        until = f"rig.faults.fail({name!r}, attempts=range(1, {number + 1}))"
        yield "no longest wait", 30, replace(wait, cap=Curve(0).cap), until
    if wait.jitter is not None:
        yield "no jitter", 10, replace(wait, jitter=None), once


def _longest(wait: Curve, attempts: int) -> int:
    return replace(wait, cap=Curve(0).cap).plain(max(1, min(attempts - 1, _MOST_FAILURES)))


def _changed(policy: Policy, of_retry: Mapping[str, object], fields: Mapping[str, object]) -> Policy | None:
    """Return a changed policy. None if there can be no such policy, or if it is the same."""
    retry = policy.retry
    assert isinstance(retry, Retry)
    given: dict[str, Any] = {name: getattr(retry, name) for name in _OF_RETRY}
    if retry.within is not None:
        given["within"] = dt.timedelta(microseconds=retry.within // 1000)
    try:
        made = replace(policy, retry=Retry(**{**given, **of_retry}), **fields)  # type: ignore[arg-type]
    except (PolicyError, ValueError, Warning):
        return None  # a list of waits that does not fit the attempts, for example
    return None if made == policy else made


def _shape(policy: Policy) -> tuple[object, ...]:
    """Return what tells a policy from others. Functions in it are made anew each time that a test runs."""
    retry = policy.retry
    assert isinstance(retry, Retry)
    return (_ADDRESS.sub("", repr(policy)), retry.on, retry.never_on, retry.drop_on)


def _told(policy: Policy) -> str:
    text = _ADDRESS.sub("", repr(policy))
    return text if text != "Policy()" else "Policy(retry=<Retry: one attempt>)"


# --- enqueues and transactions ------------------------------------------------------------------------


def _of_enqueue(name: str, job_type: JobType[..., object], delay_ns: int) -> Iterator[Change]:
    def change(
        words: str, weight: int, before: str, after: str, to: Callable[[Enqueued], Enqueued], missing: str = ""
    ) -> Change:  # fmt: skip
        done, applied = _counted(name, to)
        return Change(
            "job", name, words, before, after, weight, WorldChange(enqueue=done), missing=missing, applied=applied
        )

    if delay_ns:
        told = f"after={spell(delay_ns)!r}"
        yield change("no delay", 60, told, "after=0", lambda asked: asked._replace(after_ns=0))
        yield change(
            "twice the delay", 30, told, f"after={spell(2 * delay_ns)!r}",
            lambda asked: asked._replace(after_ns=2 * asked.after_ns),
        )  # fmt: skip
    if job_type.priority:
        yield change(
            "the opposite priority", 30, f"priority={job_type.priority}", f"priority={-job_type.priority}",
            lambda asked: asked._replace(
                priority=-(job_type.priority if asked.priority is None else asked.priority)
            ),
            "no test has other jobs that wait with it",
        )  # fmt: skip
    if job_type.queue != "default":
        yield change(
            "another queue", 30, f"queue={job_type.queue!r}", "queue='default'",
            lambda asked: asked._replace(queue="default"),
        )  # fmt: skip


def _of_transactions(simulation: Simulation) -> Iterator[Change]:
    whats = set(simulation.history.column("what"))
    if not whats & {"committed", "rolled-back"}:
        return
    for name in simulation.broker.transactions.kept_types:
        yield Change(
            "job", name, "it is enqueued before the commit", "enqueued with the commit of the transaction",
            "enqueued at once", 70, WorldChange(early=name), missing="no test lets a worker see it before the commit",
        )  # fmt: skip
        yield Change(
            "job", name, "it comes although the transaction is rolled back", "a rollback takes it back",
            "a rollback lets it in", 70, WorldChange(rolled_back_too=name), missing="no test rolls a transaction back",
        )  # fmt: skip


# --- effects ------------------------------------------------------------------------------------------


def _of_effect(simulation: Simulation, name: str) -> Iterator[Change]:
    done = f"{name} is done"
    is_keyed = name in simulation.effects.keyed
    yield Change(
        "effect", name, "it is left out", done, "nothing is done", 90, WorldChange(effect=name, becomes="left out")
    )
    job = next((one.job for one in simulation.effects if one.name == name and one.job is not None), None)
    fails = () if job is None else (f"rig.faults.fail({job.name!r}, at={f'before {name}'!r}, attempts=1)",)
    yield Change(
        "effect", name, "its answer is ignored", f"{done}, and its answer comes back", "nothing comes back",
        60, WorldChange(effect=name, becomes="ignored"), reach=fails, missing="no test lets it fail",
    )  # fmt: skip
    if not is_keyed:  # to do it twice with the same key does nothing
        yield Change(
            "effect", name, "it is done twice", done, f"{done}, and again", 70,
            WorldChange(effect=name, becomes="twice"),
        )  # fmt: skip
    else:
        reach = () if job is None else (f"rig.faults.fail({job.name!r}, at={f'after {name}'!r}, attempts=1)",)
        yield Change(
            "effect", name, "its key is another each time", "a call with a key that was there before does nothing",
            "each call is a new one", 80, WorldChange(effect=name, becomes="forgotten"), reach=reach,
            missing="no test does it a second time with the same key",
        )  # fmt: skip


# --- schedules ----------------------------------------------------------------------------------------


def _of_schedule(entry: Scheduled) -> Iterator[Change]:
    name, told = entry.name, entry.schedule.describe()
    missing = "no test lets it fire" if not entry.runs else ""

    def change(words: str, weight: int, to: Callable[[Planned], Planned], after: str = "") -> Change:
        holds, applied = _counted(name, to)
        made = WorldChange(schedule=holds)
        return Change("schedule", name, words, told, after or words, weight, made, missing=missing, applied=applied)

    yield change("it is not there", 90, lambda planned: planned._replace(fires=0), "never")
    yield change("each firing is two", 50, lambda planned: planned._replace(fires=2), f"{told}, twice")
    yield change("its first firing is left out", 50, lambda planned: planned._replace(without_first=True))
    if not entry.schedule.from_end:
        for by_ns, words, weight in ((_MINUTE, "a minute later", 40), (_HOUR, "an hour later", 60)):
            yield change(words, weight, _later(by_ns), f"{told}, {words}")
        if isinstance(entry.schedule, Cron) and any(not one.star for one in entry.schedule.fields[3:]):
            yield change("a day later", 60, _later(_DAY), f"{told}, a day later")
        if isinstance(entry.schedule, Cron) and str(entry.schedule.zone) != "UTC":
            yield change("in UTC, and not in its zone", 50, _in_utc, f"{told} in UTC")
    if entry.overlap != "allow":
        yield change(
            "it can overlap", 60, lambda planned: planned._replace(overlap="allow"),
            f"overlap='allow' instead of {entry.overlap!r}",
        )  # fmt: skip


def _later(by_ns: int) -> Callable[[Planned], Planned]:
    def later(planned: Planned) -> Planned:
        bound: Schedule = planned.schedule.in_zone(planned.zone)
        return planned._replace(schedule=Shifted(bound, by_ns))

    return later


def _in_utc(planned: Planned) -> Planned:
    schedule = planned.schedule
    if not isinstance(schedule, Cron):
        return planned
    return planned._replace(schedule=Cron(schedule.expression, _UTC, schedule.gap, schedule.fold, schedule.fields))
