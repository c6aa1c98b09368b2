"""Taps: every shape in which real code enqueues, and what it may not put through a queue."""

from __future__ import annotations

import asyncio
import enum
import functools
import sqlite3
import sys
from collections.abc import Callable
from datetime import date, datetime
from types import ModuleType
from typing import Any

import pytest

import ironclock as ic
from ironclock.simulation.jobs import live_job
from tern_line import booking, jobs
from tern_line.jobs import put as put_by_name

PUT = "tern_line.jobs:put"
READS = ic.reading(job=0, args=slice(1, None), after="wait", queue="to")
log: list[Any] = []


def send(*args: Any, **kwargs: Any) -> str:
    """The job that the toy apps below enqueue."""
    log.append((args, kwargs))
    return "sent"


@pytest.fixture(autouse=True)
def _fresh_log() -> None:
    log.clear()


# --- the ferry line's own code ------------------------------------------------------------------------


def test_five_lines(ferry: sqlite3.Connection, rig: ic.Rig) -> None:
    rig.tap("tern_line.jobs:put", reads=ic.reading(job=0, args=slice(1, None), after="wait", queue="to"))
    booking.reserve("TL-204", passenger=1)
    assert rig.jobs("release_hold").one().state == "held"
    rig.advance("20m")
    assert rig.jobs("release_hold").one().result == "released"


def test_what_was_enqueued_is_known_before_anything_ran(ferry: sqlite3.Connection, rig: ic.Rig) -> None:
    tap = rig.tap(PUT, reads=READS)
    number = booking.reserve("TL-204", passenger=2)
    job = rig.jobs().one()
    assert (job.name, job.args, job.queue, job.delay.total_seconds()) == ("release_hold", (number,), "desk", 1200)
    assert tap.jobs == [job]
    assert job.attempts == []
    assert ferry.execute("select count(*) from jobs").fetchone()[0] == 0, "the real table got nothing"


def test_also_real(ferry: sqlite3.Connection, rig: ic.Rig) -> None:
    rig.tap(PUT, reads=READS, also_real=True)
    row = put_by_name(send, 1, wait=5)
    assert row == 1, "the real answer"
    assert ferry.execute("select name, due_at from jobs").fetchall()[0]["due_at"] == rig.now.timestamp() + 5
    assert rig.jobs("send").one().delay.total_seconds() == 5


def test_references_taken_earlier_follow_and_are_put_back(ferry: sqlite3.Connection) -> None:
    for target in (PUT, jobs.put, "tern_line.jobs.put"):
        code = put_by_name.__code__
        with ic.Rig() as rig:
            rig.tap(target, reads=READS)
            assert put_by_name(send, "x", to="harbour") == "send-1"
            assert rig.jobs("send").one().queue == "harbour"
        assert jobs.put is put_by_name
        assert put_by_name.__code__ is code
        assert put_by_name(send, 1) > 0, "the real one again"


# --- other shapes ---------------------------------------------------------------------------------------


class Line:
    """An app's queue object."""

    def add(self, job: Callable[..., Any], *args: Any, delay: float = 0) -> str:
        return f"really added by {self!r}"

    @classmethod
    def shared(cls, job: Callable[..., Any], *args: Any) -> str:
        return "really"

    @staticmethod
    def loose(job: Callable[..., Any], *args: Any) -> str:
        return "really"

    async def post(self, job: Callable[..., Any], *args: Any) -> str:
        return "really posted"


class Collector:
    """Handed into a request; runs its functions after the response."""

    def __init__(self) -> None:
        self.kept: list[Any] = []

    def __call__(self, job: Callable[..., Any], *args: Any, **kwargs: Any) -> None:
        self.kept.append(job)


def task(function: Callable[..., Any]) -> Callable[..., Any]:
    @functools.wraps(function)
    def run(*args: Any, **kwargs: Any) -> Any:
        return function(*args, **kwargs)

    secret = "closed over"

    def later(*args: Any, **kwargs: Any) -> str:
        return secret

    run.later = later  # type: ignore[attr-defined]
    return run


@task
def invite(name: str, *, deck: int = 1) -> str:
    return f"{name} on deck {deck}"


def test_a_method_of_a_class_whose_objects_are_made_later() -> None:
    with ic.Rig() as rig:
        rig.tap("test_taps:Line.add", reads=ic.reading(job=1, args=slice(2, None), after="delay"))
        assert Line().add(send, "a", delay=60) == "send-1"
        rig.run_dry()
    assert log == [(("a",), {})]
    assert Line().add(send).startswith("really")


def test_a_method_of_one_object_alone() -> None:
    mine, other = Line(), Line()
    held = mine.add
    with ic.Rig() as rig:
        rig.tap(mine.add, reads=ic.reading())
        assert (mine.add(send, 1), held(send, 2)) == ("send-1", "send-2")
        assert other.add(send, 3).startswith("really")
        assert len(rig.jobs()) == 2


@pytest.mark.parametrize(("name", "job"), [("shared", 1), ("loose", 0)])
def test_class_and_static_methods(name: str, job: int) -> None:
    with ic.Rig() as rig:
        rig.tap(f"test_taps:Line.{name}", reads=lambda *a: ic.Enqueue(send, tuple(x for x in a if x == "x")))
        getattr(Line, name)(send, "x")
        getattr(Line(), name)(send, "x")
        assert [one.args for one in rig.jobs("send")] == [("x",), ("x",)]
    assert Line.shared(send) == Line.loose(send) == "really"


def test_an_attribute_hung_on_a_decorated_function() -> None:
    with ic.Rig() as rig:
        rig.tap("test_taps:invite.later", reads=ic.reading(job=invite, args=slice(0, None)))
        invite.later("Asa", deck=2)  # type: ignore[attr-defined]
        rig.settle()
        assert rig.jobs("invite").one().result == "Asa on deck 2"
    assert invite.later() == "closed over"  # type: ignore[attr-defined]


def test_an_async_callable() -> None:
    async def request() -> str:
        return await Line().post(send, "tide")

    with ic.Rig() as rig:
        rig.tap("test_taps:Line.post", reads=ic.reading(job=1, args=slice(2, None)))
        coroutine = request()
        with pytest.raises(StopIteration) as stopped:
            coroutine.send(None)
        assert stopped.value.value == "send-1"
        assert rig.jobs("send").one().args == ("tide",)
    assert asyncio.iscoroutinefunction(Line.post)


def test_a_collector_object_handed_into_a_request() -> None:
    collector = Collector()
    with ic.Rig() as rig:
        rig.tap(collector, reads=ic.reading(returns=lambda job: None))
        assert collector(send, "after the response", loud=True) is None
        assert collector.kept == []
        rig.settle()
    assert log == [(("after the response",), {"loud": True})]


def test_a_callable_that_is_no_python_function(monkeypatch: pytest.MonkeyPatch) -> None:
    module = ModuleType("toy_app")
    module.push = functools.partial(Line().add, send)  # type: ignore[attr-defined]
    monkeypatch.setitem(sys.modules, "toy_app", module)
    with ic.Rig() as rig:
        rig.tap("toy_app:push", reads=ic.reading(job=send, args=slice(0, None)))
        module.push(5)
        assert rig.jobs("send").one().args == (5,)
    assert module.push(5).startswith("really")


# --- what a reading may say -------------------------------------------------------------------------------


def test_job_by_name_path_and_type() -> None:
    with ic.Rig() as rig:
        named = rig.job(send, name="post")
        for itself in (named, send):
            line = Line()
            rig.tap(line.add, reads=ic.reading(job=itself, args=[0]))
            line.add(7)  # type: ignore[arg-type]
        other = Line()
        rig.tap(other.add, reads=ic.reading())
        with pytest.raises(ic.UnknownJob, match=r"'pots'.*did you mean 'post'"):
            other.add("pots")
        for path in ("post", "test_taps:send", "test_taps.send", send, named):
            other.add(path, 7)
        assert {(job.name, job.args) for job in rig.jobs()} == {("post", (7,))}
        assert len(rig.jobs("post")) == 7


def test_a_reading_gives_policy_answer_and_several_jobs() -> None:
    policy = ic.Policy(queue="mail", retry=ic.Retry(3, "1m"), timeout="5s")

    def reads(self: Line, job: Any, *args: Any, delay: float = 0) -> Any:
        if not args:
            return None
        return [ic.Enqueue(job, (a,), policy=policy, returns=lambda made: made.number * 100) for a in args]

    with ic.Rig() as rig:
        rig.tap(Line.add, reads=reads)
        assert Line().add(send, "a", "b") == [100, 200]
        assert Line().add(send).startswith("really"), "None lets the call through"
        assert {job.queue for job in rig.jobs("send")} == {"mail"}
        assert live_job(rig.jobs("send")[0]).type.retry.attempts == 3


@pytest.mark.parametrize(
    ("target", "says"),
    [
        ("tern_line.jobs:putt", "did you mean 'put'"), ("tern_line.job:put", "cannot import"), ("nowhere", "no module"),
        ("tern_line.jobs:HANDLERS", "cannot be called"), (len, "Iron Clock itself calls it"), (b"".join, "give its import path"), (5, "cannot be called"),
        ("tern_line.jobs.put.deeper", "no 'deeper'"), ("", "no module"),
    ],
)  # fmt: skip
def test_targets_that_are_none(target: Any, says: str) -> None:
    rig = ic.Rig()
    with pytest.raises(ic.TapError, match=says):
        rig.tap(target, reads=READS)
    with rig:
        pass


def test_readings_that_are_none() -> None:
    rig = ic.Rig()
    with pytest.raises(ic.TapError, match="reads"):
        rig.tap(PUT, reads="job")  # type: ignore[arg-type]
    with pytest.raises(ic.InputError, match="after"):
        ic.reading(after=1.5)  # type: ignore[arg-type]
    with rig:
        rig.tap(Line.add, reads=lambda *a, **k: ("send", a))  # type: ignore[arg-type,return-value]
        with pytest.raises(ic.TapError, match=r"ic\.Enqueue"):
            Line().add(send)
        with pytest.raises(ic.RigStateError, match="already"):
            rig.tap(Line.add, reads=ic.reading(job="job"))
    with ic.Rig() as other:
        with pytest.raises(ic.TapError, match=r"names the parameter 'jbo'.*did you mean 'job'\?"):
            other.tap(Line.add, reads=ic.reading(job="jbo"))
        other.tap(Line.add, reads=ic.reading(job=7))
        with pytest.raises(ic.TapError, match="no job at position 7"):
            Line().add(send)


# --- the way through a queue ------------------------------------------------------------------------------


class Deck(enum.IntEnum):
    CAR = 1


@pytest.mark.parametrize(
    ("value", "says"),
    [
        ((1, 2), r"argument 0 is \(1, 2\).*the list \[1, 2\]"), ({"a": [{"b": (1,)}]}, r"argument 0\['a'\]\[0\]\['b'\]"),
        (datetime(2031, 1, 1), "2031-01-01T00:00:00"), (date(2031, 1, 1), "2031-01-01"), ({1: 2}, "the key would become '1'"),
        (object(), "send its id"), ({1, 2}, "sorted list"), (b"x", "bytes"), (float("nan"), "no such number"),
        (Deck.CAR, "the plain int 1"), ({"x": {None: 1}}, "'null'"), ([[[float("inf")]]], r"argument 0\[0\]\[0\]\[0\]"),
    ],
)  # fmt: skip
def test_what_does_not_survive_json(value: Any, says: str) -> None:
    with ic.Rig() as rig:
        kind = rig.job(send)
        with pytest.raises(ic.PayloadError, match=says):
            rig.enqueue(kind.call(value))
        assert len(rig.jobs()) == len(rig.history) == 0
        rig.tap(Line.loose, reads=ic.reading(), payload="any")
        Line.loose(send, value)
        rig.settle()
        assert rig.jobs("send").one().args == (value,)


def test_what_survives_is_a_copy() -> None:
    seats = {"rows": [1, 2], "name": "Fulmar", "fare": 1.5, "none": None, "yes": True}
    with ic.Rig() as rig:
        rig.enqueue(rig.job(send).call(seats, extra=[seats]))
        seats["rows"].append(3)  # type: ignore[attr-defined]
        rig.settle()
    ((args, kwargs),) = log
    assert args[0]["rows"] == kwargs["extra"][0]["rows"] == [1, 2]


def test_each_attempt_unpacks_its_own_copy() -> None:
    def collects(boxes: list[int], *, notes: dict[str, int]) -> None:
        boxes.append(1)
        notes["seen"] = notes.get("seen", 0) + 1
        log.append((list(boxes), dict(notes)))
        raise ConnectionError

    with ic.Rig() as rig:
        job = rig.enqueue(rig.job(collects, retry=ic.Retry(3)).call([], notes={}))
        rig.run_dry()
    assert log == [([1], {"seen": 1})] * 3
    assert (job.args, job.kwargs) == (([],), {"notes": {}})
    assert "with ([], notes={})" in job.story()


@pytest.mark.parametrize("kind", ["plain", "generator", "async", "async generator"])
def test_the_variables_of_a_tapped_closure_can_be_read(kind: str) -> None:
    """A look at the locals of a frame whose code a tap had replaced ended the process if it had free variables."""
    berth, seen = "7", list[dict[str, Any]]()

    def look() -> None:
        frame = sys._getframe()
        while frame is not None:
            if frame.f_code.co_name == "moor":
                seen.append(dict(frame.f_locals))
            frame = frame.f_back

    if kind == "plain":

        def moor() -> str:
            look()
            return berth
    elif kind == "generator":

        def moor() -> Any:
            look()
            yield berth
    elif kind == "async":

        async def moor() -> str:
            look()
            return berth
    else:

        async def moor() -> Any:
            look()
            yield berth

    async def collected(given: Any) -> list[str]:
        return [item async for item in given]

    with ic.Rig() as rig:
        rig.effect("moored", moor)
        made = moor()
        if kind == "generator":
            assert list(made) == ["7"]
        elif kind == "async":
            assert asyncio.run(made) == "7"
        elif kind == "async generator":
            assert asyncio.run(collected(made)) == ["7"]
    assert len(seen) >= 2  # the function, and the tap in its place
    assert all(found.get("berth") == "7" for found in seen)
