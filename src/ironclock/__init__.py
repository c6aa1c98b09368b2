"""Iron Clock: deterministic tests for background and scheduled jobs.

A test captures the jobs that real code enqueues, moves a simulated clock through delays, makes chosen things fail, and
reads exactly what happened. The public names are listed here. Each is imported when it is first used, so that a test
suite pays only for what it uses.

Example::

    import ironclock as ic

    def test_the_manifest_is_sent_after_an_outage(rig):
        manifest = rig.job(submit_manifest, retry=ic.Retry(attempts=6, wait=ic.exponential("1m")))
        rig.faults.fail("submit_manifest", attempts=(1, 2))
        job = rig.enqueue(manifest.call("TL-204"), after="15m")
        rig.advance("1h")
        assert job.state == "done"
"""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from . import laws as laws
    from . import services as services
    from .capture.endpoint import Delivery as Delivery
    from .capture.outbox import Columns as Columns
    from .capture.outbox import Outbox as Outbox
    from .capture.readings import Enqueue as Enqueue
    from .capture.readings import reading as reading
    from .capture.taps import Tap as Tap
    from .capture.worker_loops import LoopGroup as LoopGroup
    from .capture.worker_loops import WorkerLoop as WorkerLoop
    from .errors import AttemptCancelled as AttemptCancelled
    from .errors import AttemptTimeout as AttemptTimeout
    from .errors import CronError as CronError
    from .errors import DatabaseClockError as DatabaseClockError
    from .errors import DeliveryFailed as DeliveryFailed
    from .errors import DeliveryRejected as DeliveryRejected
    from .errors import DeliveryTimeout as DeliveryTimeout
    from .errors import DuplicateJob as DuplicateJob
    from .errors import DurationError as DurationError
    from .errors import EnqueueRefused as EnqueueRefused
    from .errors import FlowError as FlowError
    from .errors import HistoryError as HistoryError
    from .errors import InputError as InputError
    from .errors import InstantError as InstantError
    from .errors import IronClockError as IronClockError
    from .errors import JobsDiffer as JobsDiffer
    from .errors import JobsLeftOpen as JobsLeftOpen
    from .errors import LawError as LawError
    from .errors import LogError as LogError
    from .errors import LooseEnds as LooseEnds
    from .errors import NotApproved as NotApproved
    from .errors import NotDeterministic as NotDeterministic
    from .errors import PayloadError as PayloadError
    from .errors import PolicyError as PolicyError
    from .errors import ReplayError as ReplayError
    from .errors import ResourceTimeout as ResourceTimeout
    from .errors import ResponseLost as ResponseLost
    from .errors import RigStateError as RigStateError
    from .errors import RigWarning as RigWarning
    from .errors import ScenarioError as ScenarioError
    from .errors import SelectionError as SelectionError
    from .errors import ServiceError as ServiceError
    from .errors import StrictError as StrictError
    from .errors import StuckError as StuckError
    from .errors import TapError as TapError
    from .errors import UnknownJob as UnknownJob
    from .errors import WorkerDied as WorkerDied
    from .errors import WrongName as WrongName
    from .errors import ZoneError as ZoneError
    from .forecasting.advice import Advice as Advice
    from .forecasting.advice import advise as advise
    from .forecasting.forecast import Forecast as Forecast
    from .forecasting.forecast_function import forecast as forecast
    from .forecasting.storms import storm_load as storm_load
    from .foundation.durations import Duration as Duration
    from .foundation.instants import Instant as Instant
    from .history.comparison import Comparison as Comparison
    from .history.comparison import compare as compare
    from .history.entries import Entry as Entry
    from .history.history import History as History
    from .history.log_histories import log_history as log_history
    from .laws.law import Breach as Breach
    from .laws.law import BrokenLaw as BrokenLaw
    from .laws.law import World as World
    from .laws.log_check import check_log as check_log
    from .rehearsal.rehearsal import Rehearsal as Rehearsal
    from .rehearsal.rehearsal import rehearse as rehearse
    from .rehearsal.rehearsed import Rehearsed as Rehearsed
    from .rig import Rig as Rig
    from .scenario.scenario import Scenario as Scenario
    from .schedules.cron import cron as cron
    from .schedules.intervals import every as every
    from .schedules.intervals import every_after as every_after
    from .schedules.intervals import once as once
    from .schedules.recurrence_rules import rrule as rrule
    from .schedules.schedule import Schedule as Schedule
    from .schedules.sun import sun as sun
    from .schedules.timetable import Scheduled as Scheduled
    from .search.coverage import Coverage as Coverage
    from .search.findings import Finding as Finding
    from .search.findings import Findings as Findings
    from .search.probe import Progress as Progress
    from .search.probe import probe as probe
    from .simulation.effects import Effect as Effect
    from .simulation.effects import Effects as Effects
    from .simulation.faults.kind import FaultKind as FaultKind
    from .simulation.faults.kind import Passing as Passing
    from .simulation.faults.kind import Strike as Strike
    from .simulation.faults.placing import Fault as Fault
    from .simulation.faults.placing import Faults as Faults
    from .simulation.job_sets import DeadLetters as DeadLetters
    from .simulation.job_sets import Expected as Expected
    from .simulation.job_sets import JobSet as JobSet
    from .simulation.job_sets import expected as expected
    from .simulation.jobs import Attempt as Attempt
    from .simulation.jobs import Job as Job
    from .simulation.policy import Call as Call
    from .simulation.policy import JobType as JobType
    from .simulation.policy import Policy as Policy
    from .simulation.queues import QueueControl as QueueControl
    from .simulation.requests import Request as Request
    from .simulation.resources import Resource as Resource
    from .simulation.retry import Retry as Retry
    from .simulation.retry import Wait as Wait
    from .simulation.retry import exponential as exponential
    from .simulation.retry import fixed as fixed
    from .simulation.retry import linear as linear
    from .simulation.transactions import Transaction as Transaction
    from .simulation.workflows import Workflow as Workflow

__version__ = "0.1.0"

# Where each public name is defined.
_HOMES = {
    "capture.endpoint": "Delivery",
    "capture.outbox": "Columns Outbox",
    "capture.readings": "Enqueue reading",
    "capture.taps": "Tap",
    "capture.worker_loops": "LoopGroup WorkerLoop",
    "errors": (
        "AttemptCancelled AttemptTimeout CronError DatabaseClockError DeliveryFailed DeliveryRejected "
        "DeliveryTimeout "
        "DuplicateJob DurationError EnqueueRefused FlowError HistoryError InputError InstantError "
        "IronClockError JobsDiffer JobsLeftOpen LawError LogError LooseEnds NotApproved NotDeterministic "
        "PayloadError PolicyError ReplayError ResourceTimeout ResponseLost RigStateError RigWarning "
        "ScenarioError SelectionError ServiceError StrictError StuckError TapError UnknownJob WorkerDied WrongName "
        "ZoneError"
    ),
    "forecasting.advice": "Advice advise",
    "forecasting.forecast": "Forecast",
    "forecasting.forecast_function": "forecast",
    "forecasting.storms": "storm_load",
    "rehearsal.rehearsal": "Rehearsal rehearse",
    "rehearsal.rehearsed": "Rehearsed",
    "foundation.durations": "Duration",
    "foundation.instants": "Instant",
    "history.comparison": "Comparison compare",
    "history.entries": "Entry",
    "history.history": "History",
    "history.log_histories": "log_history",
    "laws.law": "Breach BrokenLaw World",
    "laws.log_check": "check_log",
    "rig": "Rig",
    "scenario.scenario": "Scenario",
    "schedules.cron": "cron",
    "schedules.intervals": "every every_after once",
    "schedules.recurrence_rules": "rrule",
    "schedules.schedule": "Schedule",
    "schedules.sun": "sun",
    "schedules.timetable": "Scheduled",
    "search.coverage": "Coverage",
    "search.findings": "Finding Findings",
    "search.probe": "Progress probe",
    "simulation.effects": "Effect Effects",
    "simulation.faults.kind": "FaultKind Passing Strike",
    "simulation.faults.placing": "Fault Faults",
    "simulation.job_sets": "DeadLetters Expected JobSet expected",
    "simulation.jobs": "Attempt Job",
    "simulation.policy": "Call JobType Policy",
    "simulation.queues": "QueueControl",
    "simulation.requests": "Request",
    "simulation.resources": "Resource",
    "simulation.retry": "Retry Wait exponential fixed linear",
    "simulation.transactions": "Transaction",
    "simulation.workflows": "Workflow",
}
_MODULES = ("laws", "services")
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}

__all__ = sorted([*_HOME_OF, *_MODULES, "__version__"])


if not TYPE_CHECKING:  # with it, static tools would accept every misspelled name

    def __getattr__(name: str) -> object:
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
