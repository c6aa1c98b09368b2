"""Iron Clock: deterministic tests for background and scheduled jobs.

A test captures the jobs that real code enqueues, moves a simulated clock through delays, makes chosen things
fail, and reads exactly what happened. The public names stand here; each is imported when it is first used, so
that a test suite pays for what it uses.
"""

from __future__ import annotations

TYPE_CHECKING = False  # importing it from typing would cost more than all of this page

if TYPE_CHECKING:
    from typing import Any

    from . import laws as laws
    from . import stands as stands
    from .capture.endpoint import DeliveryFailed as DeliveryFailed
    from .capture.endpoint import DeliveryRejected as DeliveryRejected
    from .capture.endpoint import DeliveryTimeout as DeliveryTimeout
    from .capture.outbox import Columns as Columns
    from .capture.readings import Enqueue as Enqueue
    from .capture.readings import reading as reading
    from .capture.taps import Tap as Tap
    from .core.durations import Duration as Duration
    from .core.effects import Effect as Effect
    from .core.errors import AttemptCancelled as AttemptCancelled
    from .core.errors import AttemptTimeout as AttemptTimeout
    from .core.errors import DuplicateJob as DuplicateJob
    from .core.errors import DurationError as DurationError
    from .core.errors import EnqueueRefused as EnqueueRefused
    from .core.errors import FlowError as FlowError
    from .core.errors import HistoryError as HistoryError
    from .core.errors import InputError as InputError
    from .core.errors import InstantError as InstantError
    from .core.errors import IronClockError as IronClockError
    from .core.errors import NotDry as NotDry
    from .core.errors import PayloadError as PayloadError
    from .core.errors import PolicyError as PolicyError
    from .core.errors import ResourceTimeout as ResourceTimeout
    from .core.errors import ResponseLost as ResponseLost
    from .core.errors import RigStateError as RigStateError
    from .core.errors import SelectionError as SelectionError
    from .core.errors import StandError as StandError
    from .core.errors import StrictError as StrictError
    from .core.errors import StuckError as StuckError
    from .core.errors import TapError as TapError
    from .core.errors import UnknownJob as UnknownJob
    from .core.errors import WorkerDied as WorkerDied
    from .core.errors import ZoneError as ZoneError
    from .core.history import Entry as Entry
    from .core.history import History as History
    from .core.jobs import Attempt as Attempt
    from .core.jobs import Job as Job
    from .core.jobset import JobSet as JobSet
    from .core.laws import BrokenLaw as BrokenLaw
    from .core.policy import Call as Call
    from .core.policy import JobType as JobType
    from .core.policy import Policy as Policy
    from .core.retry import Retry as Retry
    from .core.retry import exponential as exponential
    from .core.retry import fixed as fixed
    from .core.retry import linear as linear
    from .core.timeline import Instant as Instant
    from .explore.coverage import Coverage as Coverage
    from .explore.findings import Finding as Finding
    from .explore.findings import Findings as Findings
    from .explore.probe import LawError as LawError
    from .explore.probe import Progress as Progress
    from .explore.probe import probe as probe
    from .explore.sameness import UnsteadyStory as UnsteadyStory
    from .forecasting.advise import Advice as Advice
    from .forecasting.advise import advise as advise
    from .forecasting.forecast import Forecast as Forecast
    from .forecasting.scenario import forecast as forecast
    from .logs.history import log_history as log_history
    from .logs.rows import LogError as LogError
    from .report.approved import NotApproved as NotApproved
    from .report.compare import Comparison as Comparison
    from .report.compare import compare as compare
    from .rig import Rig as Rig
    from .scenario.reading import ScenarioError as ScenarioError
    from .scenario.scenario import Scenario as Scenario
    from .schedules.base import Schedule as Schedule
    from .schedules.cron import cron as cron
    from .schedules.fields import CronError as CronError
    from .schedules.plain import every as every
    from .schedules.plain import every_after as every_after
    from .schedules.plain import once as once
    from .schedules.rules import rrule as rrule
    from .schedules.sun import sun as sun
    from .steering.replay import ReplayError as ReplayError

__version__ = "0.1.0"

_HOMES = {
    "capture.endpoint": "DeliveryFailed DeliveryRejected DeliveryTimeout",
    "capture.outbox": "Columns",
    "capture.readings": "Enqueue reading",
    "capture.taps": "Tap",
    "core.durations": "Duration",
    "core.effects": "Effect",
    "core.errors": "AttemptCancelled AttemptTimeout DuplicateJob DurationError EnqueueRefused FlowError HistoryError "
    "InputError InstantError IronClockError NotDry PayloadError PolicyError ResourceTimeout ResponseLost RigStateError "
    "SelectionError StandError StrictError StuckError TapError UnknownJob WorkerDied ZoneError",
    "core.history": "Entry History",
    "core.jobs": "Attempt Job",
    "core.jobset": "JobSet",
    "core.laws": "BrokenLaw",
    "core.policy": "Call JobType Policy",
    "core.retry": "Retry exponential fixed linear",
    "core.timeline": "Instant",
    "explore.coverage": "Coverage",
    "forecasting.advise": "Advice advise",
    "forecasting.forecast": "Forecast",
    "forecasting.scenario": "forecast",
    "explore.findings": "Finding Findings",
    "explore.probe": "LawError Progress probe",
    "explore.sameness": "UnsteadyStory",
    "logs.history": "log_history",
    "logs.rows": "LogError",
    "report.approved": "NotApproved",
    "report.compare": "Comparison compare",
    "rig": "Rig",
    "scenario.reading": "ScenarioError",
    "scenario.scenario": "Scenario",
    "steering.replay": "ReplayError",
    "schedules.base": "Schedule",
    "schedules.cron": "cron",
    "schedules.fields": "CronError",
    "schedules.plain": "every every_after once",
    "schedules.rules": "rrule",
    "schedules.sun": "sun",
}
_MODULES = ("laws", "stands")
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}

__all__ = sorted([*_HOME_OF, *_MODULES, "__version__"])


def __getattr__(name: str) -> Any:
    if name in _MODULES:
        import importlib

        return importlib.import_module(f".{name}", __name__)
    home = _HOME_OF.get(name)
    if home is None:
        raise AttributeError(f"module 'ironclock' has no attribute {name!r}")
    import importlib

    found = globals()[name] = getattr(importlib.import_module(f".{home}", __name__), name)
    return found


def __dir__() -> list[str]:
    return __all__
