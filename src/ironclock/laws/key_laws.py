"""The law of once: nothing is handled, charged or sent twice, and nothing that had to be done is left out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from ..history.entries import Entry
from ..history.records import plain
from ..simulation.jobs import Job
from .law import Breach, Law, World, states
from .window_laws import run_words


@states
def once_per_key(
    name: str, keys: Callable[[Job[Any]], Iterable[Any]] | None = None, *, due: Iterable[Any] | None = None
) -> Law:
    """Return the law that each key is done once.

    Parameters:

    - `name`: the name of an effect: each of its keys is done once; effects without a key count as one key. Or the name
      of a job type: each key is handled by one run that is done.
    - `keys`: for a job type, a function of the `Job` that returns the keys that the run handled. Default None: its
      result; in the log of a real run, which has no results, the key of the job.
    - `due`: every key that had to be done. Default None: only doubles break the law.

    Example::

        rig.check(ic.laws.once_per_key("charge"))
    """
    wanted = None if due is None else list(due)

    def once_per_key(world: World) -> list[Breach]:
        if name in world.effect_names:
            return _effects(world, name, wanted)
        world.of(name)
        return _runs(world, name, keys, wanted)

    once_per_key.keys_of = name, True  # type: ignore[attr-defined]
    once_per_key.reach = "key" if keys is None and wanted is None else "all"  # type: ignore[attr-defined]
    return once_per_key


@states
def no_key_twice(name: str | None = None) -> Law:
    """Return the law that no effect is done twice with the same key.

    Effects without a key do not count. Neither do those that can be repeated: operations of a store, whose keys are
    addresses, and HTTP requests with an idempotent method (RFC 9110, section 9.2.2).

    Parameters: `name` is the name of an effect. Default None: every effect.

    Example::

        rig.check(ic.laws.no_key_twice())
    """

    def no_key_twice(world: World) -> list[Breach]:
        broken = []
        for effect in sorted(world.effect_names) if name is None else (name,):
            if effect.partition(".")[0] not in world.history.fact("addressed", ()):
                broken += _effects(world, effect, None, is_repeatable)
        return broken

    def is_repeatable(done: Entry) -> bool:
        return done.data.get("method") in IDEMPOTENT

    no_key_twice.keys_of = name, False  # type: ignore[attr-defined]
    no_key_twice.reach = "key"  # type: ignore[attr-defined]
    return no_key_twice


IDEMPOTENT = frozenset(("GET", "HEAD", "OPTIONS", "TRACE", "PUT", "DELETE"))
"""The HTTP methods that can be repeated without harm."""


def _effects(
    world: World, name: str, wanted: Sequence[Any] | None, spares: Callable[[Entry], bool] | None = None
) -> list[Breach]:
    """Return the breaches of an effect.

    Parameters: `spares` returns True for an effect that can be done twice; with it, effects without a key do not count.
    """
    by_key: dict[str, list[int]] = {}
    for number, key in world.keys_of(name, doubled=wanted is None):
        if key is not None or spares is None:
            by_key.setdefault(repr(key), []).append(number)
    broken = []
    for text, found in by_key.items():
        if len(found) > 1 and not (spares is not None and spares(world.entry(found[0]))):
            about = "" if text == "None" else f" of {text}"
            proof = _with_starts(world, *found[:2])
            broken.append(Breach(f"{name}{about} is done {len(found)} times", proof))
    for key in wanted or ():
        if repr(plain(key)) not in by_key:
            broken.append(Breach(f"{name} of {key!r} is never done", _failures(world, name, key)))
    return broken


def _with_starts(world: World, first: int, second: int) -> tuple[Entry, ...]:
    """Return two effects, given by the indexes of their entries, with the entries between them that show why there is a
    second one: ends and starts of attempts."""
    effects = world.entry(first), world.entry(second)
    jobs = {effect.job for effect in effects if effect.job is not None}
    near = [world.entry(number) for number in world.history.of_jobs(jobs) if first < number < second]
    shown = [entry for entry in near if entry.what not in ("effect", "progress", "note", "remembered")]
    return (effects[0], *shown, effects[1])


def _failures(world: World, name: str, key: Any) -> tuple[Entry, ...]:
    about = plain(key)
    effects = world.entries_that("effect")
    tried = [e for e in effects if e.data.get("effect") == name and e.data.get("key") == about]
    return tuple(tried[-1:])


def _runs(
    world: World, job: str, keys: Callable[[Job[Any]], Iterable[Any]] | None, wanted: Sequence[Any] | None
) -> list[Breach]:
    by_key: dict[str, list[Job[Any]]] = {}
    runs = [run for run in world if run.name == job and run.state == "done"]
    of_log = world.history.fact("job_types", None) is None  # the history of a rig knows its job types
    for run in runs:  # keys as JSON holds them: so a saved history agrees with a live one
        of_run = run.result or (() if run.key is None or not of_log else (run.key,))
        for key in keys(run) if keys is not None else of_run:
            by_key.setdefault(repr(plain(key)), []).append(run)
    world.judged(len(by_key) + len(wanted or ()))
    broken = [
        Breach(f"{key} is handled {len(found)} times, by {' and by '.join(run_words(run) for run in found)}")
        for key, found in by_key.items()
        if len(found) > 1
    ]
    for key in wanted or ():
        if repr(plain(key)) not in by_key:
            near = f"; the runs were {', '.join(run_words(run) for run in runs[:6])}" if runs else "; there was no run"
            broken.append(Breach(f"{key!r} is never handled{near}{', ...' * (len(runs) > 6)}"))
    return broken
