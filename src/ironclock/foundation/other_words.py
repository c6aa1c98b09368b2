"""Other words for the same thing: what an object says if it is asked for a name that it does not have."""

from __future__ import annotations

import difflib
from functools import cache
from typing import Any

from ..errors import WrongName

_RUN = "run_dry(), settle() or advance(...)"
_WORDS: dict[str, dict[str, str]] = {
    "Rig": {
        **dict.fromkeys(("run", "run_all", "drain", "flush", "work", "process"), _RUN),
        **dict.fromkeys(("forward", "move", "wait", "sleep", "pass_time"), "advance(...)"),
        **dict.fromkeys(("time", "clock", "today"), "now"),
        **dict.fromkeys(("submit", "push", "put", "add"), "enqueue(...)"),
        **dict.fromkeys(("cron", "every", "periodic"), "schedule(...)"),
        **dict.fromkeys(("log", "events", "trace"), "history"),
        **dict.fromkeys(("verify", "laws", "assert_law"), "check(...)"),
        "capture": "tap(...)", "queues": "queue(name)", "worker": "workers(...)", "fail": "faults.fail(...)",
        "crash": "faults.crash(...)", "fault": "faults", "dead_letters": "dead", "register": "job(...)",
        "failed": "jobs(state='dead')", "pending": "jobs(state=('held', 'ready'))", "stop": "stop_workers(...)",
    },
    "Job": {
        **dict.fromkeys(("status", "done", "is_done", "finished"), "state"),
        **dict.fromkeys(("exception", "exc", "failure"), "error"),
        **dict.fromkeys(("tries", "retries", "retry_count"), "attempts_made"),
        **dict.fromkeys(("value", "output", "return_value"), "result"),
        **dict.fromkeys(("run_at", "due", "scheduled_at"), "due_at"),
        **dict.fromkeys(("payload", "arguments", "params"), "args and kwargs"),
        **dict.fromkeys(("log", "history", "trace"), "story()"),
        **dict.fromkeys(("backoff", "delays"), "waits"),
        "created_at": "enqueued_at", "cancel": "withdraw()", "failed": "state == 'dead'",
        "started_at": "attempts[0].started_at", "finished_at": "attempts[-1].ended_at",
    },
    "JobSet": {
        **dict.fromkeys(("first", "last"), "[0] or [-1]: a set of jobs is a sequence"),
        **dict.fromkeys(("size", "length"), "len(...)"),
        **dict.fromkeys(("get", "single", "only"), "one()"),
        **dict.fromkeys(("state", "status"), "states() or one().state"),
        "filter": "rig.jobs(..., where=...)", "table": "print(...) or frame()", "contains": "must_include(...)",
    },
    "JobType": {
        **dict.fromkeys(("enqueue", "submit", "put", "send"), "rig.enqueue(job_type, ...)"),
        **dict.fromkeys(("delay", "later", "after"), "rig.enqueue(job_type, ..., after='10m')"),
        "schedule": "rig.schedule(name, job_type, ...)", "jobs": "rig.jobs(job_type)",
    },
}  # fmt: skip
# By class, what people type, and what they mean.


def no_attribute(owner: object, name: str) -> WrongName:
    """Return an error that names the right word for a name that an object does not have."""
    kind = type(owner).__name__
    hint = ""
    if not name.startswith("_"):
        known = [one for one in dir(type(owner)) if not one.startswith("_")]
        close = difflib.get_close_matches(name, known, n=1)
        words = [_WORDS[one.__name__] for one in type(owner).__mro__ if one.__name__ in _WORDS]
        hint = next((found[name] for found in words if name in found), close[0] if close else "")
    return WrongName(f"a {kind} has no {name!r}{f'; did you mean {hint}?' if hint else ''}")


@cache
def _parameters(kind: Any) -> frozenset[str]:
    """Return the names of the parameters with which an object of a class is made."""
    import inspect  # only here: hardly any test needs it

    return frozenset(inspect.signature(kind).parameters)


def must_not_be_set(owner: object, name: str) -> None:
    """Raise `WrongName` for a name of an object that a user can set only in another way, which the error says."""
    kind: Any = type(owner)
    if name in _parameters(kind):
        raise WrongName(
            f"{name} of a {kind.__name__} cannot be set; give it when you make it: {kind.__name__}({name}=...)"
        )
    member = getattr(kind, name, None)
    if isinstance(member, property):
        hint = "; let time pass with advance or advance_to" if name == "now" else ""
        raise WrongName(f"{name} of a {kind.__name__} can only be read{hint}")
    if callable(member):
        raise WrongName(f"{name} of a {kind.__name__} is a method; call it: {name}(...)")
