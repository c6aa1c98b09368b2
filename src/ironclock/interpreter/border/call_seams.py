"""Seams in real code: calls to databases, files and servers at which faults can strike, without a change to the code.

A seam lies before each call, and one after each call that changes something there. A fault before it means that nothing
has happened; one after it, that the answer is lost. An error is one that the package raises itself when that happens.
"""

from __future__ import annotations

import os
import re
import weakref
from collections.abc import Awaitable, Callable, Collection, Iterable
from typing import TYPE_CHECKING, Any, TypeAlias
from urllib.parse import urlsplit

from ...errors import InputError, ResponseLost, ServiceError, nearest
from ...simulation.faults.kind import INJECTED, REAL_CALLS
from ...simulation.faults.seam_faults import pass_seam_in_coroutine
from ..patching.real_functions import real_fstat
from ..tasks.end_without_handlers import ending

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ..entered_rig import EnteredRig

KINDS = tuple(REAL_CALLS.values())
"""The kinds of real calls that can be seams."""

OwnError: TypeAlias = "Callable[[str], BaseException]"
"""Makes the error of a package from a message."""


def checked_seams(given: str | Collection[str]) -> frozenset[str]:
    """Return kinds of seams. Raises `InputError` for an unknown one."""
    chosen = tuple(given) if isinstance(given, Iterable) and not isinstance(given, str) else (given,)
    for kind in chosen:
        if kind not in KINDS:
            raise InputError(f"unknown kind of seam {kind!r}; {nearest(str(kind), KINDS)}")
    return frozenset(chosen)


class CallSeams:
    """The seams in the real calls of one rig. Parameters: `kinds` are those of `KINDS` that are switched on."""

    def __init__(self, loop: EventLoop, kinds: frozenset[str]) -> None:
        self.loop = loop
        self.kinds = kinds
        self.changes = 0
        """How many calls have changed something. A poll that finds nothing changes nothing."""
        self._inside: set[Any] = set()
        self._returning: weakref.WeakSet[Any] = weakref.WeakSet()
        """Cursors whose rows tell if their statement has changed something."""
        self._opened: dict[tuple[int, int], str] = {}

    def around(self, what: str, call: Callable[[], Any], own: OwnError, changed: Callable[[Any], bool] | None) -> Any:
        """Make a call, with its seams.

        Parameters: `what` is its name. `own` makes the errors. `changed` returns True for the result of a call that has
        changed something; None: such a call only reads, and has no seam after it.
        """
        task = self.loop.current
        if task in self._inside:  # a method of the package calls another one
            return call()
        self.before(what, own)
        self._inside.add(task)
        try:
            result = call()
        finally:
            self._inside.discard(task)
        if changed is not None:
            self.after(what, own, changed(result))
        return result

    async def around_async(
        self, what: str, call: Callable[[], Awaitable[Any]], own: OwnError, changed: Callable[[Any], bool] | None,
        drop: Callable[[Any], Awaitable[Any]] | None = None,
    ) -> Any:  # fmt: skip
        """Await a call, with its seams. Parameters as in `around`. `drop` closes a result that nobody gets."""
        await self.before_async(what, own)
        result = await call()
        if changed is not None:
            try:
                await self.after_async(what, own, changed(result))
            except Exception:
                if drop is not None:
                    await drop(result)
                raise
        return result

    def before(self, what: str, own: OwnError) -> None:
        """Pass the seam before a call."""
        self._pass(f"before {what}", own)

    def after(self, what: str, own: OwnError, changed: bool = True) -> None:
        """Pass the seam after a call."""
        self.changes += changed
        self._pass(f"after {what}", own)

    async def before_async(self, what: str, own: OwnError) -> None:
        """Do what `before` does in a coroutine."""
        with _TranslatedErrors(own):
            await pass_seam_in_coroutine(self.loop, f"before {what}")

    async def after_async(self, what: str, own: OwnError, changed: bool = True) -> None:
        """Do what `after` does in a coroutine."""
        self.changes += changed
        with _TranslatedErrors(own):
            await pass_seam_in_coroutine(self.loop, f"after {what}")

    def _pass(self, seam: str, own: OwnError) -> None:
        hook = self.loop.fault_hook
        if hook is not None:
            with _TranslatedErrors(own):
                hook(seam)

    def has_changed_rows(self, cursor: Any) -> bool:
        """Return False for a statement that has changed no row: a poll that has found nothing.

        SQLite knows how many rows a statement with RETURNING has changed when they are fetched.
        """
        if getattr(cursor, "rowcount", 1):
            return True
        if getattr(cursor, "description", None) is not None:
            self._returning.add(cursor)
        return False

    def fetched(self, cursor: Any) -> None:
        """Note that rows were fetched."""
        if cursor in self._returning:
            self._returning.discard(cursor)
            self.changes += 1

    # --- files ----------------------------------------------------------------------------------------

    def opened(self, fd: int, name: str) -> None:
        """Note that code of the rig has opened a file to write to it."""
        status = real_fstat(fd)
        self._opened.setdefault((status.st_dev, status.st_ino), name)

    def name_of(self, fd: int) -> str | None:
        """Return the name of a file that code of the rig has opened to write to it. None for any other file."""
        if not self._opened:
            return None
        status = real_fstat(fd)
        return self._opened.get((status.st_dev, status.st_ino))

    def halfway(self, name: str) -> None:
        """Pass the seam in the middle of a write."""
        self._pass(f"halfway file write {name}", io_error)


class _TranslatedErrors:
    """Inside the block, an error of a simulated service becomes one of the package that is called."""

    def __init__(self, own: OwnError) -> None:
        self._own = own

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: Any, error: BaseException | None, traceback: object) -> None:
        if type(error) in (ServiceError, ResponseLost) or (type(error) is ConnectionError and str(error) == INJECTED):
            raise self._own(str(error)) from None


def seams_of(world: EnteredRig | None, kind: str) -> CallSeams | None:
    """Return the seams of a rig, if those of a kind are on and faults can strike the running code. None if not.

    Parameters: `world` is what `Here` returns; None outside a rig.
    """
    seams: CallSeams | None = None if world is None else world.border.call_seams
    if seams is None or kind not in seams.kinds or seams.loop.fault_hook is None or ending():
        return None
    task = seams.loop.current
    return seams if task is not None and task.owner is not None and task not in seams.loop.unseen_tasks else None


def always(_: object) -> bool:
    """Return True: a call of this kind changes something, whatever its result is (`CallSeams.around`)."""
    return True


# --- names ----------------------------------------------------------------------------------------------

_COMMENTS = re.compile(r"\s*(?:--[^\n]*\n|/\*.*?\*/|\()", re.DOTALL)
_WORD = re.compile(r"\s*(\w+)")
_CHANGES = re.compile(r"\b(insert|update|delete|merge)\b", re.IGNORECASE)
_TABLE = re.compile(
    r"\b(?:into|from|update|table)\s+(?:if\s+(?:not\s+)?exists\s+)?(?:only\s+)?([\w.\"`\[\]]+)", re.IGNORECASE
)
_READS = frozenset(("SELECT", "VALUES", "SHOW", "EXPLAIN", "PRAGMA", "FETCH", "BEGIN", "START", "SAVEPOINT", "DECLARE"))
_NO_SEAM = frozenset(("ROLLBACK", "SET", "RESET", "RELEASE", "LISTEN", "UNLISTEN", "CLOSE", "DISCARD"))


def sql_call(sql: Any) -> tuple[str, bool] | None:
    """Return the name of a statement such as ``sql INSERT seats``, and True if it changes something. None for one that
    has no seam."""
    text = sql.decode("utf-8", "replace") if isinstance(sql, (bytes, bytearray)) else str(sql)
    at = 0
    while (comment := _COMMENTS.match(text, at)) is not None:
        at = comment.end()
    word = _WORD.match(text, at)
    if word is None:
        return None
    verb = word[1].upper()
    if verb == "WITH":
        found = _CHANGES.search(text, at)
        verb = "SELECT" if found is None else found[1].upper()
    if verb in _NO_SEAM:
        return None
    if verb in ("COMMIT", "END"):
        return "sql COMMIT", True
    table = _TABLE.search(text, at)
    about = "" if table is None else " " + table[1].rpartition(".")[2].strip('"`[]')
    return f"sql {verb}{about}", verb not in _READS


def http_call(method: Any, url: Any, host: Any = None) -> str:
    """Return the name of a request, such as ``http PUT harbour.example/manifests``.

    A server on this machine has no name there: its port can be another one each time.
    """
    parts = urlsplit(_text(url))
    name = parts.hostname or _text(host or "").partition(":")[0]
    if name in ("localhost", "::1") or name.startswith("127."):
        name = ""
    return f"http {_text(method)} {name}{parts.path or '/'}"


def _text(given: Any) -> str:
    return given.decode("ascii", "replace") if isinstance(given, bytes) else str(given)


_RANDOM = re.compile(r"[0-9a-f]{8,}(?:-[0-9a-f]{4,})*")


def file_name(path: Any) -> str:
    """Return the name of a file without what differs from run to run: a process number, random digits."""
    name = os.path.basename(os.fsdecode(path))
    return _RANDOM.sub("*", name.replace(str(os.getpid()), "*"))


def io_error(message: str) -> BaseException:
    """Return the error of a file operation."""
    import errno

    return OSError(errno.EIO, message)


def connection_error(message: str) -> BaseException:
    """Return the error of a connection that was closed."""
    import errno

    return ConnectionResetError(errno.ECONNRESET, message)


def connection_refused(message: str) -> BaseException:
    """Return the error of a connection that nobody accepts."""
    import errno

    return ConnectionRefusedError(errno.ECONNREFUSED, message)
