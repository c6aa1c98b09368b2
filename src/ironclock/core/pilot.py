"""The pilot: who steers a run through the points where it could go another way.

An engine without a pilot takes the ordinary course: nothing fails that no fault stands for, and what is due at one
instant runs in the order of its entry.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, Protocol, TypeAlias

if TYPE_CHECKING:
    from .faults import Fault
    from .jobs import Attempt, Job
    from .task import Task

Event: TypeAlias = "tuple[int, int, int, Callable[[Any], None], Any]"


class Pilot(Protocol):
    """What an engine asks where a run could go another way."""

    @property
    def switching(self) -> bool:
        """Whether it also decides what comes first at one instant."""

    @property
    def only(self) -> frozenset[int] | None:
        """The numbers of the only jobs that it is to be asked about; None where it is asked about everything."""

    @property
    def gates(self) -> bool:
        """Whether it is to be asked about jobs that fall due."""

    @property
    def inside(self) -> bool:
        """Whether it is to be asked about seams inside a job's code."""

    def passes(self, task: Task, where: str) -> Fault | None:
        """Say what strikes a running task at a seam; it may let others go first (`Clockwork.give_way`)."""

    def starts(self, attempt: Attempt) -> Fault | None:
        """Say what strikes an attempt before its code runs."""

    def ends(self, attempt: Attempt) -> Fault | None:
        """Say what strikes an attempt after its code, before the acknowledgement."""

    def delivers(self, job: Job) -> Fault | None:
        """Say what strikes a job that falls due."""

    def commits(self, job: Job) -> Fault | None:
        """Say what strikes a job that can be fetched before the transaction around it has committed."""

    def fires(self, schedule: str) -> Fault | None:
        """Say what strikes a firing of a schedule."""

    def asks(self, request: str, where: str) -> Fault | None:
        """Say what strikes a request, in the test's own code, at a seam."""

    def locks(self, task: Task, where: str) -> None:
        """Take note that a running task comes to a lock; it may let others go first."""

    def chooses(self, events: Sequence[Event]) -> int:
        """Choose, by its place, which of several events at one instant comes first."""

    def leaves_out(self, name: str) -> bool:
        """Whether a job that the test enqueues, or ``schedule NAME``, is left out of the world."""
