"""`asyncio.sleep` as a seam: a fault that takes time there lets the coroutine wait, and not its whole loop."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ...simulation.faults.seam_faults import pass_seam_in_coroutine
from ..patching.builtin_patching import Here
from ..patching.patches import Function, Patch


def asyncio_patches(here: Here) -> list[Patch]:
    """Return the patch of `asyncio.sleep`: it is a seam of the coroutine that sleeps."""

    import asyncio  # when somebody else has imported it

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        async def sleep(delay: float, result: Any = None) -> Any:
            world = here()
            if world is not None and world.loop.fault_hook is not None and delay > 0:
                await pass_seam_in_coroutine(world.loop, "sleep")
            return await real(delay, result)

        return sleep

    return [Function(asyncio.sleep, make)]
