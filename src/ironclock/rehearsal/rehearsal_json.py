"""A rehearsal as JSON can hold it."""

from __future__ import annotations

from typing import Any

from ..history.comparison import Change
from ..history.job_records import JobRecord
from .figures import KINDS
from .rehearsal import Rehearsal
from .rehearsed import CHANGES, Rehearsed

VERSION = 1


def as_dict(rehearsal: Rehearsal) -> dict[str, Any]:
    """Return a rehearsal as a dict. Instants are ISO 8601 text in the zone of the log, durations are seconds."""
    text = rehearsal.recording.timeline.text
    fidelity = rehearsal.fidelity
    return {
        "format": "ironclock-rehearsal", "version": VERSION,
        "jobs": fidelity.jobs,
        "since": text(rehearsal.recording.start_ns), "until": text(rehearsal.recording.end_ns),
        "fidelity": {
            "share": round(fidelity.share, 6), "enough": fidelity.is_enough, "held": fidelity.held,
            "differing": {rehearsal.recording.jobs[number].id: why for number, why in fidelity.differing.items()},
            "digests": list(fidelity.digests) if fidelity.digests[0] else None,
        },
        "not_rehearsed": list(rehearsal.notes),
        "outages": [
            {
                "since": text(outage.since_ns), "last_failure": text(outage.last_ns),
                "first_success": None if outage.is_open else text(outage.until_ns), "error": outage.error_name,
                "jobs": {name: round(victims.share, 4) for name, victims in outage.victims.items()},
            }
            for outage in rehearsal.outages
        ],
        "candidates": [_candidate(candidate) for candidate in rehearsal.candidates],
    }  # fmt: skip


def _candidate(candidate: Rehearsed) -> dict[str, Any]:
    run = candidate.run
    return {
        "name": candidate.name,
        "figures": {kind.name: _both(candidate, kind.name) for kind in KINDS},
        "by_job_type": {
            name: {kind.name: [before[kind.name], after[kind.name]] for kind in KINDS}
            for name, (before, after) in candidate.by_type.items()
        },
        "spread": {name: list(values) for name, values in candidate.spread.items()},
        "dead_in": dict(candidate.dead_in),
        "attempts": {"as_logged": run.from_log, "drawn": run.drawn, "unsure": run.unsure},
        "changes": {
            kind: [_change(change, candidate) for change in changes]
            for kind in CHANGES if (changes := candidate.changes(kind))
        },
        "effects": {"twice": list(candidate.twice), "lost": list(candidate.lost)},
        "laws": {
            law: {"before": len(before), "after": len(after), "words": [breach.words for breach in after]}
            for law, (before, after) in candidate.broken.items()
        },
    }  # fmt: skip


def _both(candidate: Rehearsed, name: str) -> list[float]:
    return [candidate.before[name], candidate.after[name]]


def _change(change: Change, candidate: Rehearsed) -> dict[str, Any]:
    shown = change.after or change.before
    assert shown is not None
    return {
        "job": shown.id, "name": shown.name, "what": list(change.what), "before": _job(change.before),
        "after": _job(change.after), "unsure": candidate.is_unsure(shown.id),
    }  # fmt: skip


def _job(record: JobRecord | None) -> dict[str, Any] | None:
    if record is None:
        return None
    ended = record.closed_ns
    return {
        "state": record.state, "attempts": len(record.attempts),
        "seconds": None if ended is None else (ended - record.enqueued_ns) / 1e9,
    }  # fmt: skip
