"""Every error that Iron Clock raises on purpose.

::

    IronClockError
    ├── InputError (ValueError)          a value that you gave cannot be used
    │   ├── DurationError                a duration
    │   ├── InstantError                 an instant
    │   ├── ZoneError                    a time zone
    │   ├── PolicyError                  a job policy
    │   ├── PayloadError                 the arguments of a job
    │   ├── FlowError                    a workflow
    │   ├── CronError                    a cron expression
    │   ├── ScenarioError                a scenario file
    │   └── Unbalanced                   a posting of a simulated ledger
    ├── UnknownJob (LookupError)         a name that no job type or schedule has
    ├── SelectionError (LookupError)     `.one()` on a set that has not one job
    ├── WrongName (AttributeError)       an attribute that an object does not have
    ├── TapError                         a tap, or its reading
    ├── RigStateError (RuntimeError)     the present state of a rig or job does not allow it
    ├── StuckError (RuntimeError)        the simulation cannot make progress
    ├── JobsLeftOpen (RuntimeError)      `run_dry` has reached its limit
    ├── StrictError (RuntimeError)       a job of a strict rig opened something real
    ├── DatabaseClockError               the clock of a database cannot follow
    ├── HistoryError                     a file of a history
    ├── LogError                         the log of a real run
    ├── NotApproved (AssertionError)     a history differs from the approved one
    ├── JobsDiffer (AssertionError)      jobs, or their waits, are not as expected
    ├── LooseEnds (AssertionError)       a test that passed says less than it seems
    ├── BrokenLaw (AssertionError)       a law does not hold (in `laws.law`, beside `Breach`)
    ├── LawError                         a law raised an error instead of an answer
    ├── NotDeterministic                 a story differs between two runs
    ├── ReplayError                      a replay token no longer fits its story
    └── raised inside the code under test
        ├── AttemptTimeout (TimeoutError)
        ├── WorkerDied                   nothing raises it; the error of an attempt whose worker died
        ├── DuplicateJob
        ├── ResourceTimeout (TimeoutError)
        ├── EnqueueRefused (ConnectionError)
        ├── ServiceError (ConnectionError)
        │   └── ResponseLost
        └── DeliveryFailed               a push over HTTP
            ├── DeliveryRejected
            └── DeliveryTimeout

    AttemptCancelled (BaseException)     outside the tree, so that `except Exception` does not catch it
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping


class IronClockError(Exception):
    """The root of every error that Iron Clock raises on purpose."""


# --- values that cannot be used ---------------------------------------------------------------------


class InputError(IronClockError, ValueError):
    """A value that cannot be used. The message names it and says what was expected."""


class DurationError(InputError):
    """A duration that cannot be read, is not finite, or is negative where that is not possible."""


class InstantError(InputError):
    """An instant that cannot be read, has no zone, or does not exist in its zone."""


class ZoneError(InputError):
    """A time zone that is not in the tz database."""


class PolicyError(InputError):
    """A value of a job policy (retry, timeout, queue ...) that cannot be used."""


class PayloadError(InputError):
    """An argument of a job that JSON would change or cannot hold."""


class FlowError(InputError):
    """A workflow whose steps form a cycle, or name steps that do not exist."""


class CronError(InputError):
    """A cron expression that cannot be read. The message shows it, with a caret under what is wrong."""


class ScenarioError(InputError):
    """A scenario file that cannot be used. The message names the file, the line and the column."""


class Unbalanced(InputError):
    """A posting without an amount, or from an account to itself."""


# --- names and states -------------------------------------------------------------------------------


class UnknownJob(IronClockError, LookupError):
    """A name that no job type (or no schedule) of the rig has."""


class SelectionError(IronClockError, LookupError):
    """A question that has not one answer: `.one()` on a set without a job or with several, an unknown effect."""


class WrongName(IronClockError, AttributeError):
    """An attribute that an object does not have. The message names the right word."""


class TapError(IronClockError):
    """A tap whose target does not exist or cannot be replaced, or whose reading returns the wrong thing."""


class RigStateError(IronClockError, RuntimeError):
    """Something that the present state of a rig or a job does not allow."""


class StuckError(IronClockError, RuntimeError):
    """The simulation cannot make progress: a loop that never lets the clock move, or a wait that nothing ends."""


class JobsLeftOpen(IronClockError, RuntimeError):
    """`Rig.run_dry` has reached its limit while jobs are still open. The message names them."""


class StrictError(IronClockError, RuntimeError):
    """A job of a strict rig opened a real socket or a real thread."""


# --- files, laws, searches --------------------------------------------------------------------------


class DatabaseClockError(IronClockError):
    """The clock of a database cannot follow the rig's: the server does not answer, or refuses. Nothing was changed."""


class HistoryError(IronClockError):
    """A history that cannot be read from its file, or written to it."""


class LogError(IronClockError):
    """A log of a real run that cannot be read. The message names the file, and the line or the column."""


class NotApproved(IronClockError, AssertionError):
    """A history that differs from the approved one. The message says what differs."""


class JobsDiffer(IronClockError, AssertionError):
    """Jobs, or the waits of a job, are not as the test expects. The message is a table of the differences."""


class LooseEnds(IronClockError, AssertionError):
    """A test that passed says less than it seems: a fault never struck, or nobody looked at a dead job."""


class LawError(IronClockError):
    """A law that raised an error instead of an answer. The message says which, where, and under which faults."""


class NotDeterministic(IronClockError):
    """A story that differs between two runs in which nothing goes wrong. No search over it would mean anything."""


class ReplayError(IronClockError):
    """A replay token that no longer fits its story. The message says where."""


# --- raised inside the code under test --------------------------------------------------------------


class AttemptTimeout(IronClockError, TimeoutError):
    """Raised inside a job whose attempt has used up its timeout."""


class RigWarning(UserWarning):
    """Something that a rig was asked for is allowed, and hardly what was meant."""


class AttemptCancelled(BaseException):
    """Raised inside a job that must stop. It is not an `Exception`, as the standard cancellation of a task is not one,
    so that ``except Exception`` does not catch it."""


def is_cancellation(error: BaseException) -> bool:
    """Return True for the cancellation of a task: the standard one, or `AttemptCancelled`."""
    return not isinstance(error, Exception) and type(error).__name__ in ("CancelledError", "AttemptCancelled")


class WorkerDied(IronClockError):
    """The error of an attempt whose worker died. Nothing raises it."""


class DuplicateJob(IronClockError):
    """A unique job was enqueued while another job with the same key is pending."""


class ResourceTimeout(IronClockError, TimeoutError):
    """A bounded resource had no free place in time. The message names the holders."""


class EnqueueRefused(IronClockError, ConnectionError):
    """What enqueueing raises in an outage of the queue server, and under `faults.refuse_enqueue`."""


class ServiceError(IronClockError, ConnectionError):
    """What a simulated service raises if it was made to fail."""


class ResponseLost(ServiceError):
    """What a simulated service raises if it has done its work and the answer is lost."""


class DeliveryFailed(IronClockError):
    """A push over HTTP that failed with a status after which a retry can help.

    `status` is that status, `retry_after_ns` the wait that the endpoint asks for, in nanoseconds.
    """

    def __init__(self, words: str, status: int = 0, retry_after_ns: int = 0) -> None:
        super().__init__(words)
        self.status = status
        self.retry_after_ns = retry_after_ns


class DeliveryRejected(DeliveryFailed):
    """A push over HTTP that failed with a final status: the job is a dead letter at once."""


class DeliveryTimeout(DeliveryFailed):
    """A push over HTTP that was not answered in time."""


def must_be_keywords(given: Mapping[str, object], keywords: type) -> None:
    """Raise `TypeError`, as Python does, if a keyword is not one of a `TypedDict`."""
    for name in given:
        if name not in keywords.__annotations__:
            raise TypeError(f"unknown keyword {name!r}; {nearest(name, keywords.__annotations__)}")


def nearest(name: str, known: Iterable[str]) -> str:
    """Return words that help with a name that is wrong: the nearest known name, and the list of all."""
    import difflib

    names = sorted(known)
    if not names:
        return "none is known yet"
    close = difflib.get_close_matches(name, names, n=1)
    listed = ", ".join(names[:12]) + (", ..." if len(names) > 12 else "")
    return (f"did you mean {close[0]!r}? " if close else "") + f"known: {listed}"
