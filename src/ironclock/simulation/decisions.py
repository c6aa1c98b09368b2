"""Decisions: who decides at the points of a run where it can go another way.

Without decisions a simulation goes the ordinary way: only the test's own faults strike, and events of one instant run
in the order of their entry.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, Final, Protocol, TypeAlias

if TYPE_CHECKING:
    from .faults.kind import Passing, Strike
    from .task import Task

Event: TypeAlias = "tuple[int, int, int, Callable[[Any], None], Any]"
"""An event on the heap: its instant, its priority, its order of entry, a function and the function's argument."""

# The positions in an event.
AT: Final = 0
PRIORITY: Final = 1
ORDER: Final = 2
FUNCTION: Final = 3
ARGUMENT: Final = 4


class Decisions(Protocol):
    """What a simulation asks where a run can go another way."""

    @property
    def chooses_order(self) -> bool:
        """True if it also chooses which event of an instant comes first."""

    @property
    def only_jobs(self) -> frozenset[int] | None:
        """The numbers of the only jobs that it must be asked about. None: all jobs."""

    @property
    def kills_workers(self) -> bool:
        """True if a worker dies of one of its faults. Who holds what is noted then, to be free after the death."""

    @property
    def asks_deliveries(self) -> bool:
        """True if it must be asked about jobs that become due."""

    @property
    def asks_inside_jobs(self) -> bool:
        """True if it must be asked about seams inside the code of a job."""

    def strikes(self, passing: Passing) -> Strike | None:
        """Return what strikes whoever passes a seam. May let others run first (`EventLoop.give_way`)."""

    def locks(self, task: Task, place: str) -> None:
        """Called when a running task comes to a lock. May let others run first."""

    def chooses(self, events: Sequence[Event]) -> int:
        """Return the index of the event that comes first, of several at one instant."""

    def leaves_out(self, name: str) -> bool:
        """Return True if a job that the test enqueues, or ``schedule NAME``, is left out of this run."""
