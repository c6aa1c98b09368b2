"""Tasks: what can stand still in simulated time while the rest goes on."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .jobs import Job


class Task:
    """An attempt, or a simulated thread. `deadline_ns` is where it is interrupted; -1 where nothing does that."""

    __slots__ = ("deadline_ns", "interrupt", "job", "parked", "strand", "wake_ns")

    own_locals = False
    """Whether it has its own values of every thread-local variable."""

    job: Job | None

    def __init__(self, job: Job | None) -> None:
        self.job = job
        self.deadline_ns = -1
        self.parked = False
        self.interrupt: Callable[[], None] | None = None  # how it is interrupted, if not by an error raised in it
        self.wake_ns = -1  # before which a wake-up call is an old one
        self.strand: Any = None  # what the host suspends and resumes

    @property
    def label(self) -> str:
        """What it is called, the same in every run of the same story."""
        raise NotImplementedError

    @property
    def priority(self) -> int:
        """Where it stands among what is due at the same instant."""
        return 0 if self.job is None else self.job.priority

    def swap_locals(self) -> None:
        """Exchange its own thread-local values for those in place."""

    def late(self) -> BaseException:
        """Return the error that it is interrupted with at its deadline."""
        raise NotImplementedError

    def run(self) -> None:
        """Run its code."""
        raise NotImplementedError
