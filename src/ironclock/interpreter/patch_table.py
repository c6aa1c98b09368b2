"""The table of patches: what of the interpreter and its standard library is replaced while a rig is entered."""

from __future__ import annotations

from collections.abc import Callable

from .border.file_seams import file_seam_patches
from .border.file_times import file_time_patches
from .border.files import file_patches
from .border.processes import process_patches
from .border.selector_waits import selector_patches
from .border.selects import select_patches
from .border.signals import signal_patches
from .border.sockets import socket_patches
from .patching.builtin_patching import Here, PickledByName
from .patching.datetime_patches import datetime_patches
from .patching.patches import Patch
from .patching.signal_alarms import alarm_patches
from .patching.signal_handlers import SignalHandlers
from .tasks.locks import lock_patches
from .tasks.simulated_threads import thread_patches


def patches(here: Here, real_started: Callable[[], None]) -> list[Patch]:
    """Return what is replaced while a rig is entered, in the order in which it is put in place.

    Parameters: `here` returns the rig that the calling thread has entered. `real_started` is called before one more
    real thread starts.
    """
    return [
        *datetime_patches(here), *thread_patches(here, real_started), *lock_patches(here),
        *alarm_patches(here), *signal_patches(here), SignalHandlers(here),
        *select_patches(here), *selector_patches(here), *socket_patches(here),
        *file_patches(here), *file_seam_patches(here), *file_time_patches(here), *process_patches(here),
        PickledByName(),
    ]  # fmt: skip
