"""Taps on class methods, on classes, and on what other modules have imported by name."""

from __future__ import annotations

import functools
import sys
from types import ModuleType
from typing import Any

import pytest

import ironclock as ic

HERE = __name__
ran: list[Any] = []


class Notice:
    """A registry by class: the class is the job."""

    @classmethod
    def enqueue(cls, *args: Any, delay: int = 0) -> Any:
        raise RuntimeError(f"the real queue gets {cls.__name__}")

    @classmethod
    async def enqueue_async(cls, *args: Any) -> Any:
        raise RuntimeError(f"the real queue gets {cls.__name__}")

    @staticmethod
    def later(name: str) -> Any:
        raise RuntimeError("the real queue")

    @classmethod
    def perform(cls, *args: Any) -> tuple[str, tuple[Any, ...]]:
        return cls.__name__, args


class Mail(Notice):
    pass


class Signal(Notice):
    @classmethod
    def perform(cls, *args: Any) -> tuple[str, tuple[Any, ...]]:
        return "by radio", args

    @classmethod
    def enqueue_async(cls, *args: Any) -> Any:
        return super().enqueue_async(*args)


class Letter:
    """What is to be sent is made with its arguments."""

    def __init__(self, to: str, delay: int = 0) -> None:
        raise RuntimeError("a real letter")


def send(to: str) -> None:
    ran.append(to)


def read(cls: Any, *args: Any, delay: int = 0) -> ic.Enqueue:
    return ic.Enqueue(cls.perform, args, after=delay)


def test_a_class_method_is_tapped_for_the_classes_below_and_its_reading_gets_the_class() -> None:
    with ic.Rig() as rig:
        tap = rig.tap(f"{HERE}:Notice.enqueue", reads=read)
        Mail.enqueue("ada")
        Signal.enqueue("ina", delay=3)
        Mail.enqueue("bo")
        Notice.enqueue("all")
        rig.run_dry()
        assert [(job.name, job.result) for job in rig.jobs()] == [
            ("Mail.perform", ("Mail", ("ada",))), ("Signal.perform", ("by radio", ("ina",))),
            ("Mail.perform", ("Mail", ("bo",))), ("Notice.perform", ("Notice", ("all",))),
        ]  # fmt: skip
        assert len(tap.jobs) == 4
    with pytest.raises(RuntimeError, match="the real queue gets Mail"):
        Mail.enqueue("ada")


def test_a_tap_on_the_method_of_one_class_leaves_its_sisters_alone() -> None:
    with ic.Rig() as rig:
        rig.tap(Mail.enqueue, reads=read)
        Mail.enqueue("ada")
        with pytest.raises(RuntimeError, match="the real queue gets Signal"):
            Signal.enqueue("ina")
        assert len(rig.jobs()) == 1
        rig.settle()


def test_a_reading_by_positions_can_name_the_class() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda cls, to: ran.append((cls.__name__, to)), name="notice")
        rig.tap(Notice.enqueue, reads=ic.reading(job=kind, args=["cls", 0], after="delay"), payload="any")
        Signal.enqueue("ina", delay=60)
        rig.run_dry()
        assert ran.pop() == ("Signal", "ina")
        with pytest.raises(ic.TapError, match="names the parameter 'cls'"):
            rig.tap(send, reads=ic.reading(job=kind, args=["cls"]))


def test_the_real_class_method_gets_the_class_of_the_call() -> None:
    with ic.Rig() as rig:
        rig.allow("idle taps")
        rig.tap(f"{HERE}:Notice.enqueue", reads=lambda cls, *args: None)
        rig.effect("queue", f"{HERE}:Mail.perform")
        with pytest.raises(RuntimeError, match="the real queue gets Signal"):
            Signal.enqueue("ina")
        assert Mail.perform(1) == ("Mail", (1,))
        assert len(rig.effects("queue")) == 1


async def _enqueue_both() -> None:
    await Mail.enqueue_async("ada")
    await Signal.enqueue_async("ina")


def test_async_class_methods() -> None:
    with ic.Rig() as rig:
        rig.tap(f"{HERE}:Notice.enqueue_async", reads=read)
        rig.enqueue(_enqueue_both)
        rig.run_dry()
        assert {job.name for job in rig.jobs()} == {"_enqueue_both", "Mail.perform", "Signal.perform"}


def test_a_class_below_with_a_method_of_its_own_would_bypass_the_tap() -> None:
    class Fax(Notice):
        @staticmethod
        def later(name: str) -> Any:
            return "sent at once"

    with ic.Rig() as rig, pytest.raises(ic.TapError, match=r"Notice\.later is overridden by .*Fax\.later, whose calls"):
        rig.tap(f"{HERE}:Notice.later", reads=ic.reading(job=send, args=[0]))
    del Fax


def test_a_tap_on_a_class_reads_the_arguments_of_its_constructor() -> None:
    for target in (f"{HERE}:Letter", Letter):
        with ic.Rig() as rig:
            rig.tap(target, reads=ic.reading(job=send, args=["to"], after="delay"))
            Letter("ada", delay=5)
            job = rig.jobs(send).one()
            assert (job.args, job.delay.seconds) == (("ada",), 5)
            rig.run_dry()
        assert ran.pop() == "ada"
    with ic.Rig() as rig, pytest.raises(ic.TapError, match=r"not understood: which parameter is the job, 'to'"):
        rig.tap(f"{HERE}:Letter")


def test_what_another_module_has_imported_by_name_is_tapped_as_well(monkeypatch: pytest.MonkeyPatch) -> None:
    ours: Any = ModuleType("ferry_queue")
    theirs: Any = ModuleType("ferry_views")
    ours.put = theirs.put_job = real = functools.partial(send)
    monkeypatch.setitem(sys.modules, "ferry_queue", ours)
    monkeypatch.setitem(sys.modules, "ferry_views", theirs)
    with ic.Rig() as rig:
        rig.tap("ferry_queue:put", reads=ic.reading(job=send, args=[0]))
        theirs.put_job("ada")
        rig.run_dry()
        assert ran.pop() == "ada"
    assert ours.put is theirs.put_job is real


@pytest.mark.parametrize("target", ["builtins:len", "builtins:print", "time:sleep"])
def test_what_iron_clock_itself_calls_cannot_be_tapped(target: str) -> None:
    with ic.Rig() as rig, pytest.raises(ic.TapError, match=f"{target}' is a built-in function of Python"):
        rig.tap(target, reads=ic.reading(job=send, args=[]))


def test_the_class_below_can_have_a_tap_of_its_own_first() -> None:
    class Base:
        @classmethod
        def put(cls, to: str) -> Any:
            raise RuntimeError("the real queue")

    class Below(Base):
        @classmethod
        def put(cls, to: str) -> Any:
            raise RuntimeError("another real queue")

    def read_put(to: str) -> ic.Enqueue:
        return ic.Enqueue(send, (to,))

    with ic.Rig() as rig:
        with pytest.raises(ic.TapError, match="tap that one first"):
            rig.tap(Base.put, reads=read_put)
        rig.tap(Below.put, reads=read_put)
        rig.tap(Base.put, reads=read_put)
        Below.put("ada")
        Base.put("ina")
        rig.settle()
        assert rig.jobs(send).args == [("ada",), ("ina",)]
    with pytest.raises(RuntimeError, match="another real queue"):
        Below.put("ada")
