"""The host of a rig: what its simulation asks of the interpreter, and of what brings jobs in (`Host`)."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from .errors import RigStateError
from .interpreter import installation
from .interpreter.tasks.watched_threads import watch_deaths_here
from .observers import observers
from .simulation.host import Child

if TYPE_CHECKING:
    from .capture.outbox import Outbox
    from .capture.targets import Replacement
    from .capture.worker_loops import WorkerLoops
    from .interpreter.border.border import Border
    from .interpreter.tasks.asyncio_loops import AsyncioLoops
    from .interpreter.tasks.forked_child import ForkedChildren
    from .interpreter.tasks.simulated_threads import SimulatedThreads
    from .services.service import Service
    from .simulation.jobs import LiveAttempt
    from .simulation.simulation import Simulation
    from .simulation.task import Task

_COLLECT_OFTEN = 2_000  # objects; a worker that dies looks at all that were made since the last collection


class RigHost:
    """Answers for the interpreter. `begin` gives it the other parts of its rig."""

    in_child: Child | None = None
    border: Border | None = None
    """What waits for something real. None until the rig is entered."""
    loops: WorkerLoops | None = None
    """The worker loops of the application's own. None if there are none."""
    _asyncio_loops: AsyncioLoops | None = None
    _forked_children: ForkedChildren | None = None

    def begin(
        self, simulation: Simulation, threads: SimulatedThreads, taps: Sequence[Replacement],
        outboxes: Sequence[Outbox], services: dict[str, Service],
    ) -> None:  # fmt: skip
        """Get to know the rig's other parts. The collections change as the rig gets more of them."""
        self._simulation = simulation
        self._threads = threads
        self._taps = taps
        self._outboxes = outboxes
        self._services = services

    def await_result(self, coroutine: Any) -> Any:
        if self._asyncio_loops is None:
            from .interpreter.tasks.asyncio_loops import AsyncioLoops

            self._asyncio_loops = AsyncioLoops(self._simulation.loop)
            self._simulation.attempts.on_death.append(self._asyncio_loops.drop)
        return self._asyncio_loops.run(coroutine)

    def run_forked(self, attempt: LiveAttempt) -> Any:
        if self._forked_children is None:
            from .interpreter.tasks.forked_child import ForkedChildren

            self._forked_children = ForkedChildren(self._simulation, self._services, self._forget_asyncio_loops)
        return self._forked_children.run(attempt)

    def _forget_asyncio_loops(self) -> None:
        if self._asyncio_loops is not None:
            self._asyncio_loops.forget()

    def note_server(self, address: Any, client_of: Callable[[Any], Callable[[Any], None] | None]) -> None:
        """Note a server of the rig's own. Raises `RigStateError` if the rig is not entered."""
        if self.border is None or not installation.entered():
            raise RigStateError("the rig is not entered; ask for the address of a server inside `with rig:`")
        self.border.descriptors.proxies[address] = client_of

    def workers_will_die(self) -> None:
        self._threads.note_holders()
        self._simulation.loop.collect_after = _COLLECT_OFTEN
        if installation.entered():
            watch_deaths_here()

    def where_it_stands(self, task: Task) -> str:
        return "" if self.border is None else self.border.outside.where_it_stands(task)

    def can_meet_new_names(self) -> bool:
        return bool(self._taps) or any(not outbox.runs for outbox in self._outboxes)

    def worker_has_died(self, words: str) -> None:
        if not observers:  # a program that is no test: nothing else would say so
            print(f"Iron Clock: {words}", file=sys.stderr)

    def dead_workers(self) -> list[str]:
        return [*(() if self.loops is None else self.loops.ended()), *self._threads.died]

    def deadlocks(self) -> list[str]:
        circular = self._threads.circular
        circular.seen = len(circular.told)
        return list(circular.told)

    # --- leaving ------------------------------------------------------------------------------------

    def close_idle(self) -> None:
        """Close the asyncio loops in which nothing runs: the rig is left."""
        if self._asyncio_loops is not None:
            self._asyncio_loops.close_idle()

    def close(self) -> None:
        """Close what it holds of the system."""
        if self._asyncio_loops is not None:
            self._asyncio_loops.close()
        if self._forked_children is not None:
            self._forked_children.collect_ended()
