"""Calls on helper threads: a call into C that blocks is made on a real thread, while its task waits.

The rig talks with a helper over pipes, so that it can wait for one as for a socket. Inside the call the clock is real.
"""

from __future__ import annotations

import contextvars
import os
import select
import signal
from collections.abc import Callable
from typing import Any

from ..patching.real_functions import real_get_ident, real_pipe, real_read, real_start_thread, real_write
from ..patching.real_threads import runner_threads
from .outside_waits import CALL, OutsideWait, OutsideWaits


class HelperThread:
    """One real thread, which makes one call after the other. Parameters: `started` is called before it starts."""

    def __init__(self, started: Callable[[], None]) -> None:
        self._asked, self._ask = real_pipe()
        self.answered, self._answer = real_pipe()
        self._call: Callable[[], Any] | None = None
        self._result: Any = None
        self._error: BaseException | None = None
        started()
        real_start_thread(self._serve, ())
        real_read(self.answered, 1)  # it runs, and is known

    def _serve(self) -> None:
        me = real_get_ident()
        runner_threads.add(me)  # no wait of the rig counts on it
        signal.pthread_sigmask(signal.SIG_BLOCK, signal.valid_signals())  # they are for the program's own threads
        try:
            real_write(self._answer, b".")
            while real_read(self._asked, 1) and self._call is not None:
                try:
                    self._result = self._call()
                except BaseException as error:
                    self._error = error
                self._call = None
                real_write(self._answer, b".")
        finally:
            runner_threads.discard(me)
            for fd in (self._asked, self._answer):
                os.close(fd)

    def begin(self, call: Callable[[], Any]) -> None:
        """Begin a call. When it is over, `answered` can be read."""
        self._call = call
        real_write(self._ask, b".")

    def end(self) -> Any:
        """Return the result of the call, or raise its error. Blocks until it is there."""
        real_read(self.answered, 1)
        result, error, self._result, self._error = self._result, self._error, None, None
        if error is not None:
            try:
                raise error
            finally:
                del error
        return result

    def close(self) -> None:
        """End the thread as soon as its call is over."""
        os.close(self._ask)
        os.close(self.answered)


class HelperThreads:
    """The helper threads of one rig. Parameters: `started` is called before one more real thread starts."""

    def __init__(self, started: Callable[[], None]) -> None:
        self._started = started
        self._idle: list[HelperThread] = []

    def take(self) -> HelperThread:
        """Return an idle helper."""
        return self._idle.pop() if self._idle else HelperThread(self._started)

    def put_back(self, helper: HelperThread) -> None:
        """Take back a helper that has ended its call."""
        self._idle.append(helper)

    def call(self, outside: OutsideWaits, what: str, function: Callable[..., Any], args: Any, kwargs: Any) -> Any:
        """Make a call on a helper thread. The running task waits for it, and the others go on."""
        helper = self.take()
        context = contextvars.copy_context()
        helper.begin(lambda: context.run(function, *args, **kwargs))
        exchange = outside.exchange(CALL, what)
        try:
            outside.wait(OutsideWait(what, [exchange], [(helper.answered, select.POLLIN)]))
        except BaseException:
            helper.close()  # its call goes on, and its result is nobody's
            raise
        self.put_back(helper)
        return helper.end()

    def close(self) -> None:
        """End the helpers that are idle."""
        while self._idle:
            self._idle.pop().close()
