"""Which asyncio loop runs in this real thread. asyncio itself is looked up, so that it is never loaded for this."""

from __future__ import annotations

import sys
from typing import Any


def running_loop() -> Any:
    """Return the running loop. None if there is none, or if nobody has imported asyncio."""
    events = sys.modules.get("asyncio.events")
    return None if events is None else events._get_running_loop()


def set_running_loop(asyncio_loop: Any) -> None:
    """Say which loop runs; None: none. asyncio must have been imported."""
    sys.modules["asyncio.events"]._set_running_loop(asyncio_loop)


def unset_running_loop() -> Any:
    """Forget which loop runs, and return it."""
    running = running_loop()
    if running is not None:
        set_running_loop(None)
    return running
