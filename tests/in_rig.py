"""What tests of waiting share: the rig's time of day, and functions that run as threads of a rig."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Any

import ironclock as ic

START = "2031-03-29T21:00"


def clock() -> str:
    """Return the time of day, as the code of a rig sees it."""
    return time.strftime("%H:%M:%S")


def together(rig: ic.Rig, *functions: Callable[[], Any], spend: str = "3m") -> None:
    """Run functions as threads of the rig, and let time pass."""
    for function in functions:
        threading.Thread(target=function).start()
    rig.advance(spend)
