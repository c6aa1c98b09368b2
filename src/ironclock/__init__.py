"""Iron Clock: deterministic tests for background and scheduled jobs.

A test captures the jobs that real code enqueues, moves a simulated clock through delays, makes chosen things
fail, and reads exactly what happened.
"""

from .capture.readings import Enqueue, reading
from .capture.taps import Tap
from .core.durations import Duration
from .core.errors import (
    AttemptTimeout,
    DurationError,
    EnqueueRefused,
    HistoryError,
    InputError,
    InstantError,
    IronClockError,
    NotDry,
    PayloadError,
    PolicyError,
    RigStateError,
    SelectionError,
    StuckError,
    TapError,
    UnknownJob,
    ZoneError,
)
from .core.history import Entry, History
from .core.jobs import Attempt, Job
from .core.jobset import JobSet
from .core.policy import Call, JobType, Policy
from .core.retry import Retry, exponential, fixed, linear
from .core.timeline import Instant
from .rig import Rig

__version__ = "0.1.0"

__all__ = [
    "Attempt", "AttemptTimeout", "Call", "Duration", "DurationError", "Enqueue", "EnqueueRefused", "Entry",
    "History", "HistoryError", "InputError", "Instant", "InstantError", "IronClockError", "Job", "JobSet",
    "JobType", "NotDry", "PayloadError", "Policy", "PolicyError", "Retry", "Rig", "RigStateError",
    "SelectionError", "StuckError", "Tap", "TapError", "UnknownJob", "ZoneError", "__version__", "exponential",
    "fixed", "linear", "reading",
]  # fmt: skip
