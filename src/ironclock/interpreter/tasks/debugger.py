"""A debugger at a prompt in a job or a simulated thread: its stack also shows who moved the clock, and it steps over
the code of Iron Clock.

A greenlet has its own stack, which ends where the greenlet begins. The test, which waits for it, has another.
"""

from __future__ import annotations

import bdb
from types import FrameType
from typing import Any

from ...foundation.source_location import is_own
from ..patching.builtin_patching import Here
from ..patching.patches import Attribute, Patch


def debugger_patches(here: Here) -> list[Patch]:
    """Return the patch of the standard library's debuggers. Parameters: `here` returns the world of this thread."""

    def stops(real: Any) -> Any:
        def stop_here(self: bdb.Bdb, frame: FrameType) -> bool:
            return not is_own(frame.f_code.co_filename) and real(self, frame)

        return stop_here

    def stack_of(real: Any) -> Any:
        def get_stack(self: bdb.Bdb, frame: FrameType | None, trace: Any) -> tuple[list[tuple[FrameType, int]], int]:
            stack, index = real(self, frame, trace)
            world = here()
            if trace is not None or world is None or world.loop.current is None:
                return stack, index
            chosen = stack[index][0] if stack else None
            waits: FrameType | None = getattr(world.loop.switcher, "frame_of_test", None)
            callers = []
            while waits is not None:
                callers.append((waits, waits.f_lineno))
                waits = waits.f_back
            whole = [*reversed(callers), *stack]
            whole = [entry for entry in whole if entry[0] is chosen or not is_own(entry[0].f_code.co_filename)]
            return whole, next((n for n, entry in enumerate(whole) if entry[0] is chosen), 0)

        return get_stack

    return [Attribute(bdb.Bdb, "get_stack", stack_of), Attribute(bdb.Bdb, "stop_here", stops)]
