"""The rig that a thread has entered, as the patches of the interpreter see it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .patching.signal_alarms import Alarms

if TYPE_CHECKING:
    from ..simulation.event_loop import EventLoop
    from ..simulation.host import Host
    from .border.border import Border
    from .patching.clock_functions import ClockFunctions
    from .tasks.simulated_threads import SimulatedThreads


class EnteredRig:
    """The parts of one rig that code of the interpreter meets in it.

    Parameters: `loop` has the simulated time and who runs. `threads` are the simulated threads. `border` is what waits
    for something real. `clock` are the clock functions. `host` is what surrounds the simulation.
    """

    def __init__(
        self, loop: EventLoop, threads: SimulatedThreads, border: Border, clock: ClockFunctions, host: Host
    ) -> None:
        self.loop = loop
        self.threads = threads
        self.border = border
        self.clock = clock
        self.host = host
        self.alarms = Alarms(loop)
