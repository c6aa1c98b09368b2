"""Laws about jobs and their attempts: lost, overlapping, late, too often, out of order, too many in a queue."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any

from ..errors import InputError, SelectionError, nearest
from ..foundation.durations import Duration, spell, to_ns
from ..history.entries import Entry
from ..history.job_records import AttemptRecord, JobRecord
from ..history.records import ENDED, plain
from .law import Breach, JobLike, Law, World, states

_NEVER = 1 << 62


@states
def nothing_lost(
    job: JobLike | None = None, *, effect: str | None = None, key: Callable[..., Any] | None = None
) -> Law:
    """Return the law that nothing vanishes: no job is lost with its worker, and none runs or waits without an end.

    Dead letters are not lost: somebody sees them.

    Parameters:

    - `job`: only jobs of this type. Default None: all.
    - `effect`: each job that is done has done this effect as well, so that no failure was swallowed. Default None.
    - `key`: a function of the job's arguments that returns the key of that effect. Default None: any effect of that
      name by the job itself counts.

    Example::

        rig.check(ic.laws.nothing_lost("submit_manifest", effect="harbour.request"))
    """

    def nothing_lost(world: World) -> list[Breach]:
        if effect is not None and effect not in world.effect_names:
            raise SelectionError(
                f"a law is about the effect {effect!r}, and there is none of that name; "
                f"{nearest(effect, world.effect_names)}"
            )
        if job is None and effect is None and world.all_ended_well:
            return []  # a live rig says so at once
        broken = []
        did = _doers(world, effect, key)
        rests = world.nothing_is_pending
        for record in world.suspects(job, lambda log: log if key is not None else log.lost(effect, rests)):
            attempts = record.attempts
            if record.state == "lost":
                last = attempts[-1].entries if attempts else (record.enqueue_entry,)
                broken.append(Breach(f"{record.id} is lost", (*last, *_closing(record))))
            elif record.state == "done" and effect is not None and not did(record):
                broken.append(Breach(f"{record.id} is done without its {effect}", _last_attempt(world, record)))
            elif record.is_open and attempts and attempts[-1].ended_ns is None and world.nothing_is_pending:
                broken.append(Breach(f"{record.id} never ends", attempts[-1].entries))
        return broken

    nothing_lost.reach = "job" if key is None else "all"  # type: ignore[attr-defined]
    return nothing_lost


@states
def no_deadlock() -> Law:
    """Return the law that no jobs and threads wait for one another's locks without an end.

    Locks are watched in the runs of the probe and of a replay token, and not in other rigs.

    Example::

        rig.check(ic.laws.no_deadlock())
    """

    def no_deadlock(world: World) -> list[Breach]:
        return [Breach(str(entry.data["message"]), (entry,)) for entry in world.entries_that("deadlocked")]

    return no_deadlock


@states
def no_overlap(job: JobLike | None = None, *, per_key: bool = False) -> Law:
    """Return the law that no two attempts run at the same time.

    Parameters:

    - `job`: among attempts at jobs of this type. Default None: among attempts at the same job.
    - `per_key`: True: only among jobs with the same key. Default False.

    Example::

        rig.check(ic.laws.no_overlap("poll_buoy"))
    """

    def no_overlap(world: World) -> list[Breach]:
        groups: dict[Any, list[AttemptRecord]] = {}
        for record in world.suspects(job, lambda log: log.overlapping(job is not None, per_key)):
            group = record.id if job is None else repr(record.key) if per_key else job
            groups.setdefault(group, []).extend(record.attempts)
        broken = []
        for attempts in groups.values():
            attempts.sort(key=lambda attempt: attempt.started_ns)
            holder: AttemptRecord | None = None
            for attempt in attempts:
                if holder is not None and attempt.started_ns < _end_ns(holder):
                    words = f"attempt {attempt.number} of {attempt.job} starts while attempt {holder.number}"
                    proof = (holder.start_entry, attempt.start_entry, *_ending(holder))
                    unseen = "" if holder.end_seen else ", as far as its row tells: its end is not seen"
                    broken.append(Breach(f"{words} of {holder.job} runs{unseen}", proof))
                if holder is None or _end_ns(attempt) > _end_ns(holder):
                    holder = attempt
        return broken

    no_overlap.reach = "job" if job is None else "all"  # type: ignore[attr-defined]
    return no_overlap


@states
def finishes_within(job: JobLike | None, limit: Duration) -> Law:
    """Return the law that a job is closed at most `limit` after it was due.

    Parameters: `job` is the job type (None: all jobs); `limit` a duration. Raises `DurationError`.

    Example::

        rig.check(ic.laws.finishes_within("submit_manifest", "30m"))
    """
    limit_ns = to_ns(limit, what="limit")

    def finishes_within(world: World) -> list[Breach]:
        now = world.end_ns
        broken = []
        for record in world.suspects(job, lambda log: log.closed_later(limit_ns)):
            closed_ns = record.closed_ns
            late = (now if closed_ns is None else closed_ns) - record.first_due_ns
            if late > limit_ns:
                what = f"is still open {spell(late)}" if closed_ns is None else f"ends {spell(late)}"
                starts = [attempt.start_entry for attempt in record.attempts[:1]]
                proof = (record.enqueue_entry, *starts, *_closing(record))
                broken.append(Breach(f"{record.id} {what} after it was due, over {spell(limit_ns)}", proof))
        return broken

    finishes_within.limit_ns = limit_ns  # type: ignore[attr-defined]
    finishes_within.reach = "job"  # type: ignore[attr-defined]
    return finishes_within


@states
def attempts_at_most(job: JobLike | None, limit: int, *, on: str | type[BaseException] | None = None) -> Law:
    """Return the law that a job is tried at most `limit` times.

    Parameters:

    - `job`: the job type. None: all jobs.
    - `limit`: a whole number, at least 1.
    - `on`: an error type or its name: an error of that type ends at most `limit` attempts of a job. It finds retries of
      something that can never succeed. Default None: all attempts count.

    Raises `InputError`.

    Example::

        rig.check(ic.laws.attempts_at_most("submit_manifest", 3))
    """
    _must_be_count(limit)
    name = on.__name__ if isinstance(on, type) else on

    def attempts_at_most(world: World) -> list[Breach]:
        broken = []
        for record in world.suspects(job, lambda log: log.tried_over(limit, name)):
            attempts = record.attempts
            if name is not None:
                ended = [(attempt, attempt.end_entry) for attempt in attempts]
                attempts = [attempt for attempt, end in ended if end is not None and end.data.get("error") == name]
            if len(attempts) > limit:
                with_error = "" if name is None else f" and failed with {name}"
                proof = (*attempts[0].entries, attempts[limit].start_entry, *_ending(attempts[limit]))
                broken.append(Breach(f"{record.id} is tried {len(attempts)} times{with_error}, over {limit}", proof))
        return broken

    attempts_at_most.reach = "job"  # type: ignore[attr-defined]
    return attempts_at_most


@states
def in_order(job: JobLike, *, per_key: bool = False) -> Law:
    """Return the law that jobs of a type are done in the order in which they were enqueued.

    Parameters: `job` is the job type; `per_key`: True compares only jobs with the same key. Default False.

    Example::

        rig.check(ic.laws.in_order("submit_manifest"))
    """

    def in_order(world: World) -> list[Breach]:
        groups: dict[str, list[JobRecord]] = {}
        for record in world.suspects(job, lambda log: log.out_of_order(per_key)):
            groups.setdefault(repr(record.key) if per_key else "", []).append(record)
        broken = []
        for records in groups.values():
            latest: tuple[int, JobRecord] | None = None
            for record in records:
                close = record.close_entry
                if record.state != "done" or close is None:
                    continue
                at = record.close_number
                if latest is not None and at < latest[0]:
                    before = latest[1]
                    proof = (before.enqueue_entry, record.enqueue_entry, close, *_closing(before))
                    broken.append(Breach(f"{record.id} is done before {before.id}, which was enqueued earlier", proof))
                if latest is None or at > latest[0]:
                    latest = at, record
        return broken

    return in_order


@states
def queue_below(queue: str, limit: int) -> Law:
    """Return the law that fewer than `limit` jobs of a queue are due and wait for a worker, at any time.

    Parameters: `queue` is the name of the queue; `limit` a whole number, at least 1. Raises `InputError`.

    Example::

        rig.check(ic.laws.queue_below("default", 100))
    """
    _must_be_count(limit)

    def queue_below(world: World) -> list[Breach]:
        changes: list[tuple[int, int, Entry]] = []  # when, 1 for more and 0 for fewer, and the entry that proves it
        for record in world.suspects(None, lambda log: log.waiting(queue, limit)):
            if record.queue != queue:
                continue
            due, enqueue = record.first_due_ns, record.enqueue_entry
            for attempt in record.attempts:
                changes += [(due, 1, enqueue), (attempt.started_ns, 0, attempt.start_entry)]
                due = _NEVER if attempt.ended_ns is None else attempt.ended_ns + (attempt.wait_ns or 0)
            if record.is_open and (not record.attempts or record.attempts[-1].ended_ns is not None):
                changes.append((due, 1, enqueue))
            elif not record.attempts and record.closed_ns is not None:
                changes += [(due, 1, enqueue), *((record.closed_ns, 0, entry) for entry in _closing(record))]
        now = world.end_ns
        depth = 0
        changes = sorted((change for change in changes if change[0] <= now), key=lambda c: (c[0], -c[1]))
        # A job that starts at the very instant at which it is due has not waited: an instant counts as a whole.
        for n, (at, adds, _) in enumerate(changes):
            depth += 1 if adds else -1
            if depth >= limit and (n + 1 == len(changes) or changes[n + 1][0] > at):
                last = next(entry for when, more, entry in reversed(changes[: n + 1]) if more and when == at)
                words = f"{depth} jobs wait in queue {queue!r} at {world.history.timeline.text(at)}"
                return [Breach(f"{words}, not below {limit}", (last,))]
        return []

    return queue_below


@states
def stops_when_asked(limit: Duration = 0, *, job: JobLike | None = None) -> Law:
    """Return the law that an attempt that is asked to stop ends by its own code, at most `limit` later.

    Parameters: `limit` is a duration, default 0; `job` the job type, default None: all jobs. Raises `DurationError`.

    Example::

        rig.check(ic.laws.stops_when_asked("30s"))
    """
    limit_ns = to_ns(limit, what="limit")

    def stops_when_asked(world: World) -> list[Breach]:
        now = world.end_ns
        ids = {record.id for record in world.of(job)}
        broken = []
        for number in world.numbers_that("asked-to-stop"):
            entry = world.entry(number)
            if entry.job not in ids:
                continue
            mine = entry.job, entry.attempt
            end = next((e for e in world.after(number) if e.what in ENDED and (e.job, e.attempt) == mine), None)
            killed = end is not None and end.data.get("error") == "WorkerDied"
            until = now if end is None else end.ns
            if killed or until - entry.ns > limit_ns:
                how = "had to be killed" if killed else "ends" if end else "still runs"
                words = (
                    f"attempt {entry.attempt} of {entry.job} {how} {spell(until - entry.ns)} after it was asked to stop"
                )
                broken.append(Breach(words, (entry, end) if end else (entry,)))
        return broken

    return stops_when_asked


@states
def each(effect: str, words: str, predicate: Callable[[dict[str, Any]], Any]) -> Law:
    """Return the law that every effect of a name that was done satisfies a predicate.

    Parameters:

    - `effect`: the name of the effect.
    - `words`: what holds for each, for the message.
    - `predicate`: a function of the data of the effect (`Effect.data`, with its key under ``"key"``).

    Raises `InputError`.

    Example::

        rig.service(ic.services.Mail())
        rig.check(ic.laws.each("mail.send", "a letter has a subject", lambda data: data["subject"]))
    """
    if not callable(predicate):
        raise InputError(f"the predicate of {words!r} is {predicate!r}; give a function of the effect's data")

    def each(world: World) -> list[Breach]:
        if effect not in world.effect_names:
            raise SelectionError(
                f"a law is about the effect {effect!r}, and there is none of that name; "
                f"{nearest(effect, world.effect_names)}"
            )
        done = world.effects_of(effect)
        return [Breach(f"it does not hold that {words}", (entry,)) for entry in done if not predicate(entry.data)]

    each.reach = "job"  # type: ignore[attr-defined]
    return each


@states
def holds(words: str, predicate: Callable[[World], Any]) -> Law:
    """Return a law of your own: `predicate(world)` is true at the end.

    If it is not, the message says how many jobs, effects and entries the predicate has read, and shows the last ones.

    Parameters: `words` say what holds, for the message; `predicate` is a function of the `World`. Raises `InputError`.

    Example::

        rig.check(ic.laws.holds("two letters are sent", lambda world: len(world.effects) == 2))
    """
    if not callable(predicate):
        raise InputError(f"the predicate of {words!r} is {predicate!r}; give a function of the world")

    def holds(world: World) -> list[Breach]:
        world.begin_reading()
        if predicate(world):
            return []
        read, proof = world.told_reads()
        return [Breach(f"it does not hold that {words}{f' (it read {read})' if read else ''}", proof)]

    return holds


def _must_be_count(limit: object) -> None:
    if isinstance(limit, bool) or not isinstance(limit, int) or limit < 1:
        raise InputError(f"limit is {limit!r}; give a whole number, at least 1")


def _doers(world: World, effect: str | None, key: Callable[..., Any] | None) -> Callable[[JobRecord], bool]:
    """Return what tells if a job has done an effect."""
    if effect is None:
        return lambda record: True
    if key is None:
        doers = cache(lambda: {entry.job for entry in world.effects_of(effect)})
        return lambda record: record.id in doers()
    done = [one for _, one in world.keys_of(effect)]
    texts = set(map(repr, done))

    def did(record: JobRecord) -> bool:
        data = record.enqueue_entry.data
        wanted = plain(key(*data.get("args", ()), **data.get("kwargs", {})))
        return repr(wanted) in texts or wanted in done  # the first is fast; 1 and 1.0 are the same key

    return did


def _last_attempt(world: World, record: JobRecord) -> tuple[Entry, ...]:
    """Return the entries of the last attempt at a job, with its last effect."""
    mine = map(world.entry, world.history.of_jobs((record.id,)))
    effects = [entry for entry in mine if entry.what == "effect"]
    entries = record.attempts[-1].entries
    return (*entries[:1], *effects[-1:], *entries[1:])


def _closing(record: JobRecord) -> tuple[Entry, ...]:
    close = record.close_entry
    return () if close is None else (close,)


def _ending(attempt: AttemptRecord) -> tuple[Entry, ...]:
    return attempt.entries[1:]


def _end_ns(attempt: AttemptRecord) -> int:
    return _NEVER if attempt.ended_ns is None else attempt.ended_ns
