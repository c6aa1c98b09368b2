"""Entries: what happened in a rig, one thing at a time, as people and files see it."""

from __future__ import annotations

import datetime as dt
from typing import Any

from ..foundation.instants import Timeline
from .records import Record, data_of, plain


class Entry:
    """One thing that happened.

    - `ns`: its instant, in nanoseconds since 1970-01-01T00:00Z (`at`: as a datetime in the rig's zone).
    - `what`: what happened, one of enqueued, started, done, failed, timed-out, cancelled, crashed, withdrawn, requeued,
      discarded, refused, firing-refused, expired, lost, given-up, lease-ended, ack-lost, delivered-twice, redelivered,
      overtaken, asked-to-stop, progress, effect, before-commit, committed, rolled-back, request-failed, remembered,
      waited, deadlocked, worker-up, worker-down, polls-skipped, note.
    - `job`: the job's id, and `name` its type. None if it is not about a job.
    - `attempt`: the number of the attempt. 0 if it is not about an attempt.
    - `data`: everything else, as a saved file shows it.
    """

    __slots__ = ("_data", "_record", "_timeline", "_values", "attempt", "job", "name", "ns", "what")

    def __init__(
        self, timeline: Timeline, ns: int, what: str, job: str | None, name: str | None, attempt: int,
        data: dict[str, Any] | tuple[str, ...] | None, record: Record | None = None, values: tuple[Any, ...] = (),
    ) -> None:  # fmt: skip
        # The data of a saved entry are their names, which many entries share, and their values: a dict for each would
        # take most of the memory of a loaded history.
        self._timeline = timeline
        self.ns = ns
        self.what = what
        self.job = job
        self.name = name
        self.attempt = attempt
        self._data = data
        self._values = values
        self._record = record

    @property
    def at(self) -> dt.datetime:
        """Its instant, in the rig's zone."""
        return self._timeline.at(self.ns)

    @property
    def data(self) -> dict[str, Any]:
        """Everything else, as a saved file shows it."""
        # Made when somebody asks: the laws of a search look at the data of few entries.
        found = self._data
        if type(found) is tuple:
            return dict(zip(found, self._values, strict=True))
        if found is None:
            assert self._record is not None
            found = self._data = data_of(self._record, self._timeline)
        assert isinstance(found, dict)
        return found

    @property
    def effect(self) -> str | None:
        """The name of the effect that was done. None for anything else, and for an effect that failed."""
        if self.what != "effect":
            return None
        if self._data is None and self._record is not None:
            detail = self._record.detail
            return detail.name if detail.outcome == "done" else None
        return str(self.data.get("effect")) if self.data.get("outcome") == "done" else None

    @property
    def key(self) -> Any:
        """The key of its effect or its job, as a saved file shows it. None if there is no key."""
        if self._data is None and self._record is not None and self.what == "effect":
            return plain(self._record.detail.key)
        return self.data.get("key")

    def __eq__(self, other: object) -> bool:
        return self is other or (
            isinstance(other, Entry)
            and (self.ns, self.what, self.job, self.attempt) == (other.ns, other.what, other.job, other.attempt)
            and self.data == other.data
        )

    def __hash__(self) -> int:
        return hash((self.ns, self.what, self.job, self.attempt))

    def __repr__(self) -> str:
        about = f" {self.job}" if self.job else ""
        return f"<entry {self._timeline.text(self.ns)}{about} {self.what} {self.data}>"
