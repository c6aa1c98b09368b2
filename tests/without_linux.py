"""A plugin of pytest, and a start of a process: what only Linux has is taken away, before anything is imported."""

from __future__ import annotations

import os
import select
import selectors
import signal
import time

LINUX_ALONE = (
    (select, "epoll"), (selectors, "EpollSelector"), (os, "pidfd_open"), (os, "eventfd"), (os, "eventfd_read"),
    (os, "pipe2"), (signal, "SIGRTMAX"), (signal, "SIGRTMIN"), (signal, "sigtimedwait"), (signal, "sigwaitinfo"),
    (time, "pthread_getcpuclockid"), (time, "CLOCK_BOOTTIME"),
)  # fmt: skip

for _module, _name in LINUX_ALONE:
    if hasattr(_module, _name):
        delattr(_module, _name)
selectors.DefaultSelector = selectors.PollSelector  # type: ignore[misc, assignment]
