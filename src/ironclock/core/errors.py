"""The one exception tree: everything Iron Clock raises on purpose derives from `IronClockError`."""

from __future__ import annotations

from collections.abc import Iterable


class IronClockError(Exception):
    """Root of every error that Iron Clock raises on purpose."""


class InputError(IronClockError, ValueError):
    """A value given to Iron Clock cannot be used; the message names it and what was expected."""


class DurationError(InputError):
    """A duration that does not parse, is not finite, or is negative where it may not be."""


class InstantError(InputError):
    """An instant that does not parse, is naive, or does not exist in its zone."""


class ZoneError(InputError):
    """A time zone that the tz database does not know."""


class PolicyError(InputError):
    """A job policy (retry, timeout, queue ...) that cannot work as given."""


class PayloadError(InputError):
    """A job argument that would not come back from JSON as it went in."""


class UnknownJob(IronClockError, LookupError):
    """A job type that the rig does not know."""


class TapError(IronClockError):
    """A tap whose target does not exist or cannot be replaced, or whose reading makes no sense."""


class SelectionError(IronClockError, LookupError):
    """`.one()` on a set of jobs that does not hold exactly one."""


class RigStateError(IronClockError, RuntimeError):
    """Something was asked of a rig or a job that its present state does not allow."""


class StuckError(IronClockError, RuntimeError):
    """The simulation cannot make progress: a loop that never lets the simulated clock move."""


class NotDry(IronClockError, RuntimeError):
    """`run_dry` reached its limit with jobs still open."""


class HistoryError(IronClockError):
    """A saved history that cannot be read."""


class AttemptTimeout(IronClockError, TimeoutError):
    """Thrown into a job whose attempt has used up its timeout."""


class AttemptCancelled(BaseException):
    """Thrown into a job that is to stop. Like the standard cancellation of a task it is no `Exception`, so that a
    blanket ``except Exception`` lets it through; it stands outside the tree for that."""


def is_cancellation(error: BaseException) -> bool:
    """Whether an error is a task's cancellation (the standard one, or `AttemptCancelled`), which is no `Exception`."""
    return not isinstance(error, Exception) and type(error).__name__ in ("CancelledError", "AttemptCancelled")


class WorkerDied(IronClockError):
    """What an attempt ends with whose worker was killed; nothing raises it, it is there to be read."""


class DuplicateJob(IronClockError):
    """A unique job was enqueued while another of the same key is pending."""


class ResourceTimeout(IronClockError, TimeoutError):
    """A bounded resource did not become free in time."""


class StandError(IronClockError, ConnectionError):
    """What a simulated outside service answers when it was made to fail."""


class ResponseLost(StandError):
    """What a simulated outside service answers that has done what it was asked and whose answer is lost."""


class FlowError(InputError):
    """A flow whose steps cannot be put in an order, or name steps that do not exist."""


class StrictError(IronClockError, RuntimeError):
    """A job in a strict rig reached for what is not simulated."""


class EnqueueRefused(IronClockError, ConnectionError):
    """What an enqueue raises under `faults.refuse_enqueue`, unless the test gives another error."""


def nearest(name: str, known: Iterable[str]) -> str:
    """Words that help with a misspelt name: the nearest known one, and the list of all."""
    import difflib

    names = sorted(known)
    if not names:
        return "none is known yet"
    close = difflib.get_close_matches(name, names, n=1)
    listed = ", ".join(names[:12]) + (", ..." if len(names) > 12 else "")
    return (f"did you mean {close[0]!r}? " if close else "") + f"known: {listed}"
