"""Laws over jobs and their attempts: lost, overlapping, late, too often, out of order, too many in line."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from .durations import Duration, spell, to_ns
from .errors import InputError, SelectionError, nearest
from .history import Entry
from .laws import Breach, Law, Life, Run, World, states
from .shapes import plain

_OVER = 1 << 62


@states()
def nothing_lost(job: str | None = None, *, effect: str | None = None, key: Callable[..., Any] | None = None) -> Law:
    """Return the law that nothing vanishes: no job is lost with its worker, and none is left running or ready for
    good; dead letters are not lost, somebody sees them.

    With `effect`, each job that is done has done that effect as well: no failure was swallowed. `key` is a function
    of the job's arguments that gives the effect's key (none: any such effect by the job itself counts).
    """

    def nothing_lost(world: World) -> list[Breach]:
        if effect is not None and effect not in world.effect_names:
            raise SelectionError(f"a law is about the effect {effect!r}; {nearest(effect, world.effect_names)}")
        if job is None and effect is None and world.jobs and world.all_closed:
            return []  # a live world says so at once
        broken = []
        for life in world.of(job):
            if life.state == "lost":
                last = life.runs[-1].proof if life.runs else (life.enqueued,)
                broken.append(Breach(f"{life.id} is lost", (*last, *([life.closed] if life.closed else []))))
            elif life.state == "done" and effect is not None and not _did(world, life, effect, key):
                broken.append(Breach(f"{life.id} is done without its {effect}", _end(world, life)))
            elif life.state == "open" and life.runs and not life.runs[-1].ended and _idle(world, life):
                broken.append(Breach(f"{life.id} never ends", life.runs[-1].proof))
        return broken

    return nothing_lost


@states()
def no_deadlock() -> Law:
    """Return the law that no jobs and threads wait for one another's locks for good. Locks are watched in a rig that
    is steered: by the probe, or by a replay token."""

    def no_deadlock(world: World) -> list[Breach]:
        found = [entry for entry in world.entries if entry.what == "deadlocked"]
        return [Breach(str(entry.data["message"]), (entry,)) for entry in found]

    return no_deadlock


@states("deliver_twice")
def no_overlap(job: str | None = None, *, per_key: bool = False) -> Law:
    """Return the law that no two attempts at jobs of a type run at the same time (`per_key`: with the same key).

    Without a type: no two attempts at the same job.
    """

    def no_overlap(world: World) -> list[Breach]:
        groups: dict[Any, list[Run]] = {}
        for life in world.of(job):
            about = life.id if job is None else repr(life.key) if per_key else job
            groups.setdefault(about, []).extend(life.runs)
        broken = []
        for runs in groups.values():
            runs.sort(key=lambda run: run.start_ns)
            holder: Run | None = None
            for run in runs:
                if holder is not None and run.start_ns < _ends(holder):
                    words = f"attempt {run.first.attempt} of {run.job} starts while attempt {holder.first.attempt}"
                    proof = (holder.first, run.first, *([holder.last] if holder.last else []))
                    broken.append(Breach(f"{words} of {holder.job} runs", proof))
                if holder is None or _ends(run) > _ends(holder):
                    holder = run
        return broken

    return no_overlap


@states()
def finishes_within(job: str | None, limit: Duration) -> Law:
    """Return the law that a job of a type (none: any) is done, or a dead letter, at most `limit` after it was due."""
    limit_ns = to_ns(limit, what="limit")

    def finishes_within(world: World) -> list[Breach]:
        now = world.entries[-1].ns if world.entries else 0
        broken = []
        for life in world.of(job):
            due = world.history.timeline.ns(life.enqueued.data["due"])
            end = life.closed.ns if life.closed is not None else now
            if end - due > limit_ns:
                what = f"ends {spell(end - due)} after it was due" if life.closed else f"is open {spell(end - due)} on"
                proof = [life.enqueued, *(r.first for r in life.runs[:1]), *([life.closed] if life.closed else [])]
                broken.append(Breach(f"{life.id} {what}, over {spell(limit_ns)}", tuple(proof)))
        return broken

    finishes_within.limit_ns = limit_ns  # type: ignore[attr-defined]
    return finishes_within


@states("deliver_twice", "lose_ack", "crash")
def attempts_at_most(job: str | None, limit: int, *, on: str | type[BaseException] | None = None) -> Law:
    """Return the law that a job of a type (none: any) is tried at most `limit` times; with `on`, that an error of
    that type (or type name) ends no more than `limit` of its attempts: a retry of what can never succeed."""
    _must_count(limit)
    name = on.__name__ if isinstance(on, type) else on

    def attempts_at_most(world: World) -> list[Breach]:
        broken = []
        for life in world.of(job):
            runs = [r for r in life.runs if name is None or (r.last is not None and r.last.data.get("error") == name)]
            if len(runs) > limit:
                about = "" if name is None else f" and failed with {name}"
                last = runs[limit].last
                proof = (*runs[0].proof, runs[limit].first, *([last] if last else []))
                broken.append(Breach(f"{life.id} is tried {len(runs)} times{about}, over {limit}", proof))
        return broken

    return attempts_at_most


@states("fail", "crash", "hang", "deliver_twice", "lose_ack", "delay", "refuse_enqueue")
def in_order(job: str, *, per_key: bool = False) -> Law:
    """Return the law that jobs of a type are done in the order they were enqueued (`per_key`: among those of a key)."""

    def in_order(world: World) -> list[Breach]:
        groups: dict[str, list[Life]] = {}
        for life in world.of(job):
            groups.setdefault(repr(life.key) if per_key else "", []).append(life)
        broken = []
        for lives in groups.values():
            latest: tuple[int, Life] | None = None
            position = {id(entry): n for n, entry in enumerate(world.entries)}
            for life in lives:
                if life.state != "done" or life.closed is None:
                    continue
                at = position[id(life.closed)]
                if latest is not None and at < latest[0] and latest[1].closed is not None:
                    before = latest[1]
                    proof = (before.enqueued, life.enqueued, life.closed, latest[1].closed)
                    broken.append(Breach(f"{life.id} is done before {before.id}, which was enqueued earlier", proof))
                if latest is None or at > latest[0]:
                    latest = at, life
        return broken

    return in_order


@states()
def queue_below(queue: str, limit: int) -> Law:
    """Return the law that fewer than `limit` jobs of a queue wait, due, for a worker at any time."""
    _must_count(limit)

    def queue_below(world: World) -> list[Breach]:
        changes: list[tuple[int, int, Entry]] = []
        instant = world.history.timeline.ns
        for life in world.lives:
            if life.enqueued.data.get("queue") != queue:
                continue
            due = instant(life.enqueued.data["due"])
            for run in life.runs:
                changes += [(due, 1, life.enqueued), (run.start_ns, 0, run.first)]
                due = _OVER if run.last is None else run.last.ns + int(run.last.data.get("wait_ns", 0))
            if life.state == "open" and (not life.runs or life.runs[-1].ended):
                changes.append((due, 1, life.enqueued))
            elif not life.runs and life.closed is not None:
                changes += [(due, 1, life.enqueued), (life.closed.ns, 0, life.closed)]
        now = world.entries[-1].ns if world.entries else 0
        depth = 0
        changes = sorted((change for change in changes if change[0] <= now), key=lambda c: (c[0], -c[1]))
        # What starts at the very instant at which it falls due has not waited: an instant counts as a whole.
        for n, (at, adds, _) in enumerate(changes):
            depth += 1 if adds else -1
            if depth >= limit and (n + 1 == len(changes) or changes[n + 1][0] > at):
                last = next(entry for when, more, entry in reversed(changes[: n + 1]) if more and when == at)
                words = f"{depth} jobs wait in queue {queue!r} at {world.history.timeline.text(at)}"
                return [Breach(f"{words}, not below {limit}", (last,))]
        return []

    return queue_below


@states()
def each(effect: str, words: str, predicate: Callable[[dict[str, Any]], Any]) -> Law:
    """Return the law that every effect of a name that was done satisfies a predicate of its data (see `Effect.data`;
    its key stands under ``"key"``). `words` say what holds for each."""
    if not callable(predicate):
        raise InputError(f"the predicate of {words!r} is {predicate!r}, which cannot be called")

    def each(world: World) -> list[Breach]:
        if effect not in world.effect_names:
            raise SelectionError(f"a law is about the effect {effect!r}; {nearest(effect, world.effect_names)}")
        done = (entry for entry in world.effects if entry.effect == effect)
        return [Breach(f"it does not hold that {words}", (entry,)) for entry in done if not predicate(entry.data)]

    return each


@states()
def holds(words: str, predicate: Callable[[World], Any]) -> Law:
    """Return a law of one's own: that `predicate(world)` is true at the end."""
    if not callable(predicate):
        raise InputError(f"the predicate of {words!r} is {predicate!r}, which cannot be called")

    def holds(world: World) -> list[Breach]:
        return [] if predicate(world) else [Breach(f"it does not hold that {words}")]

    return holds


def _must_count(limit: object) -> None:
    if isinstance(limit, bool) or not isinstance(limit, int) or limit < 1:
        raise InputError(f"limit is {limit!r}; give a whole number of at least 1")


def _did(world: World, life: Life, effect: str, key: Callable[..., Any] | None) -> bool:
    done = [entry for entry in world.effects if entry.effect == effect]
    if key is None:
        return any(entry.job == life.id for entry in done)
    wanted = plain(key(*life.enqueued.data.get("args", ()), **life.enqueued.data.get("kwargs", {})))
    return any(entry.data.get("key") == wanted for entry in done)


def _end(world: World, life: Life) -> tuple[Entry, ...]:
    tried = [e for e in world.entries if e.job == life.id and e.what == "effect"]
    return (*life.runs[-1].proof[:1], *tried[-1:], *life.runs[-1].proof[1:])


def _idle(world: World, life: Life) -> bool:
    """Whether nothing at all is left that could end a job: only a live world can tell."""
    return any(job.id == life.id and job.engine.next_due_ns is None for job in world)


def _ends(run: Run) -> int:
    return _OVER if run.last is None else run.last.ns
