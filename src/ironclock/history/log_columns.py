"""What the columns of a log mean: as the reader says, or guessed from their names."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from ..errors import LogError, nearest

FIELDS = {
    "job": "the job's id, the same for each of its attempts", "name": "its type", "queue": "its queue",
    "key": "what it is about", "args": "its arguments", "enqueued": "when it was enqueued",
    "due": "when it was due, if that is later", "attempt": "the attempt's number, from 1",
    "started": "when the attempt started", "ended": "when it ended", "runtime": "how long it took",
    "outcome": "how it ended", "error": "its error", "worker": "who ran it", "effect": "the effect that it had outside",
    "event": "what happened, if each row is one event", "time": "when that was",
}  # fmt: skip
"""What a column can mean."""

_NAMES = {
    "job": "job_id jobid task_id taskid message_id msg_id job_uuid uuid messaging_message_id ironclock_job id",
    "name": "job_name task_name job_type task_type job_class task function func kind type class ironclock_name",
    "queue": "queue_name topic channel messaging_destination_name ironclock_queue",
    "key": "idempotency_key unique_key ironclock_key",
    "args": "arguments payload parameters params",
    "enqueued": "enqueued_at queued_at created_at created submitted_at submitted published_at published",
    "due": "due_at run_at scheduled_at scheduled_for eta not_before",
    "attempt": "attempt_number attempt_no try tries attempts ironclock_attempt",
    "started": "started_at start_time start begin begun_at began_at started_on begin_time starttimeunixnano",
    "ended": "ended_at finished_at completed_at end_time end finish finished completed_on ended_on finish_time "
    "endtimeunixnano",
    "outcome": "status state result",
    "error": "error_message exception problem error_text failure_reason reason status_message",
    "worker": "worker_id worker_name host hostname node",
    "event": "event_type event_name what action",
    "time": "timestamp ts at event_time datetime date_time occurred_at",
}
"""The usual names, the most usual first."""
_RUNTIME = re.compile(
    r"(?:run_?time|duration|elapsed|took)(?:_(?:time|[mun]?s|secs?|seconds|millis|milliseconds|micros|nanos))*"
)
_UNITS = {
    "ms": 1_000_000, "millis": 1_000_000, "milliseconds": 1_000_000, "us": 1_000, "micros": 1_000, "ns": 1,
    "nanos": 1, "s": 1_000_000_000, "sec": 1_000_000_000, "seconds": 1_000_000_000, "secs": 1_000_000_000,
}  # fmt: skip


def meaning_of(
    place: str, names: Sequence[str], given: Mapping[str, str], guessed: dict[str, str] | None = None
) -> dict[str, str]:
    """Return which column holds what: by what it means, its name in the log.

    What is `given` comes first, then a column with the name itself, then the usual names; what is guessed so is put
    into `guessed` as well. Raises `LogError` for a column that is missing, with the columns that there are.
    """
    if not names:
        raise LogError(f"{place} has no rows; a log has one row for each attempt, or for each event")
    for field in given:
        if field not in FIELDS:
            raise LogError(f"unknown meaning of a column {field!r}; {nearest(field, FIELDS)}")
    missing = [field for field in given if given[field] not in names]
    if missing:
        raise _missing(place, missing, names)
    made = dict(given)
    taken = set(given.values())
    plain = {name: re.sub(r"[^a-z0-9]+", "_", name.lower().lstrip("@")).strip("_") for name in names}
    if "job" in names and not {"job", "name"} & set(made) and "name" not in names:
        # Beside a column with ids, a column `job` has the types.
        ids = [name for word in _NAMES["job"].split() for name in names if plain[name] == word]
        if ids:
            made |= {"job": ids[0], "name": "job"}
            taken |= {ids[0], "job"}
            if guessed is not None:
                guessed |= {"job": ids[0], "name": "job"}
    for field in FIELDS:
        if field not in made and field in names and field not in taken:
            made[field] = field
            taken.add(field)
    last = {name: re.sub(r"[^a-z0-9]+", "_", re.split(r"[.]", name.lower())[-1]).strip("_") for name in names}
    for field, usual in _NAMES.items():
        if field in made:
            continue
        for word in (field, *usual.split()):
            found = next((name for name in names if name not in taken and plain[name] == word), None)
            found = found or next((name for name in names if name not in taken and last[name] == word), None)
            if found is not None:
                made[field] = found
                taken.add(found)
                if guessed is not None:
                    guessed[field] = found
                break
    if "runtime" not in made:
        found = next((name for name in names if name not in taken and _RUNTIME.fullmatch(plain[name])), None)
        if found is not None:
            made["runtime"] = found
            if guessed is not None:
                guessed["runtime"] = found
    _must_be_enough(place, made, names, guessed)
    return made


def _must_be_enough(place: str, made: dict[str, str], names: Sequence[str], guessed: dict[str, str] | None) -> None:
    by_events = "event" in made and "time" in made and "started" not in made
    if by_events:
        needed = ["job", "event", "time"]
    else:
        needed = ["job", "started", "outcome"]
        if "started" not in made and "ended" in made and "runtime" in made:
            needed.remove("started")
        for field in ("event", "time"):
            made.pop(field, None)
            if guessed is not None:
                guessed.pop(field, None)
    missing = [field for field in needed if field not in made]
    if missing:
        raise _missing(place, missing, names)


def _missing(place: str, missing: Sequence[str], names: Sequence[str]) -> LogError:
    what = ", ".join(f"{field} ({FIELDS[field]})" for field in missing)
    return LogError(
        f"{place}: columns are missing: {what}. The log has {', '.join(names)}. "
        f"Say which is which: {' '.join(f'--column {field}=...' for field in missing)}"
    )


def unit_of(column: str) -> int:
    """Return the unit of a column of runtimes in nanoseconds, as its name says: ``took_ms``. Default: seconds."""
    word = re.split(r"[^a-z]+", re.sub(r"(?<=[a-z])(?=[A-Z])", "_", column).lower())[-1]
    return _UNITS.get(word, 1_000_000_000)
