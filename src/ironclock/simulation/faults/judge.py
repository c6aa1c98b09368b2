"""The judge: it answers one question, what strikes here? A test's placed faults answer it, and a search's plan."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .kind import Passing
from .placed import PlacedFaults

if TYPE_CHECKING:
    from ..decisions import Decisions
    from ..event_loop import EventLoop


class Judge:
    """Says what strikes whoever passes a seam, and lets it strike."""

    def __init__(self, loop: EventLoop, placed: PlacedFaults) -> None:
        self._loop = loop
        self.placed = placed
        self.guards_queues = False
        """True if an enqueue can be refused."""

    @property
    def plan(self) -> Decisions | None:
        """The plan of a search. None: only what a test has placed strikes."""
        return self._loop.decisions

    def strike(self, passing: Passing) -> None:
        """Let everything strike that strikes here: first what the plan says, then the placed faults in their order."""
        plan = self._loop.decisions
        if plan is not None:
            does = plan.strikes(passing)
            if does is not None:
                does.kind.strike(passing, does)
        self.strike_placed(passing)

    def strike_placed(self, passing: Passing) -> None:
        """Let the placed faults strike that strike here, until one has ended whatever passes."""
        faults = self.placed.at(passing.seam)
        if not faults or passing.over:
            return
        now = self._loop.now
        for subject in passing.subjects():
            for fault in faults[:]:
                if not fault.kind.needs <= passing.can:
                    if fault.aim.includes(now, subject):
                        fault.missed.add(_cannot(subject.job, passing))
                elif fault.strikes(now, subject):
                    fault.does.kind.strike(passing, fault.does)
                    if passing.over:
                        for other in faults:
                            if not other.struck and not other.came_second and other.aim.includes(now, subject):
                                other.came_second = fault.describe()
                        return


def _cannot(job: str, passing: Passing) -> str:
    return f"{job} came to the seam {passing.seam!r}, {passing.why_not}"
