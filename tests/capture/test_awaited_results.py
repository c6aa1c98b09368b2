"""Plain functions whose results are awaited: effects, handlers and jobs end when the work is done, and not before."""

from __future__ import annotations

import asyncio
import functools
from collections.abc import AsyncIterator, Awaitable, Callable, Generator
from typing import Any

import pytest

import ironclock as ic


class Harbour:
    """A client as asynchronous packages have: plain methods, whose results are awaited."""

    def __init__(self) -> None:
        self.calls: list[str] = []

    async def _ask(self, what: str) -> str:
        await asyncio.sleep(2)
        self.calls.append(what)
        if what == "fog":
            raise ConnectionError(what)
        return what

    def coroutine(self, what: str) -> Awaitable[str]:
        return self._ask(what)

    def future(self, what: str) -> Awaitable[str]:
        return asyncio.ensure_future(self._ask(what))

    def request(self, what: str) -> Request:
        return Request(self, what)

    def each(self, what: str) -> AsyncIterator[str]:
        async def each() -> AsyncIterator[str]:
            yield await self._ask(what)

        return each()


class Request:
    """An object that is awaited, or entered."""

    def __init__(self, harbour: Harbour, what: str) -> None:
        self._harbour, self._what = harbour, what

    def __await__(self) -> Generator[Any, None, str]:
        return self._harbour._ask(self._what).__await__()

    async def __aenter__(self) -> str:
        return await self._harbour._ask(self._what)

    async def __aexit__(self, *_: object) -> None:
        return


async def _entered(harbour: Harbour, what: str) -> str:
    async with harbour.request(what) as answer:
        return answer


async def _iterated(harbour: Harbour, what: str) -> str:
    items = [item async for item in harbour.each(what)]
    return items[-1]


WAYS: dict[str, tuple[str, Callable[[Harbour, str], Awaitable[str]]]] = {
    "coroutine": ("coroutine", Harbour.coroutine),
    "coroutine in a task": ("coroutine", lambda harbour, what: asyncio.create_task(harbour.coroutine(what))),  # type: ignore[arg-type]
    "future": ("future", Harbour.future),
    "gathered": ("request", lambda harbour, what: _first(asyncio.gather(harbour.request(what)))),
    "object": ("request", lambda harbour, what: harbour.request(what)),
    "entered": ("request", _entered),
    "iterated": ("each", _iterated),
}


async def _first(found: Awaitable[list[str]]) -> str:
    return (await found)[0]


@pytest.fixture(params=WAYS)
def way(request: pytest.FixtureRequest, rig: ic.Rig) -> tuple[Harbour, Callable[[str], Awaitable[str]]]:
    method, ask = WAYS[request.param]
    harbour = Harbour()
    rig.effect("ask", f"{__name__}:Harbour.{method}", key="what")
    return harbour, lambda what: ask(harbour, what)


Way = tuple[Harbour, Callable[[str], Awaitable[str]]]


def test_an_effect_is_done_when_its_result_is_there(rig: ic.Rig, way: Way) -> None:
    _, ask = way

    async def job() -> list[str]:
        return [await ask("tide"), await ask("wind")]

    done = rig.enqueue(job)
    rig.advance("1s")
    assert not rig.effects("ask")
    rig.advance("10s")
    assert done.result == ["tide", "wind"]
    begin = rig.history[0].at
    assert [(e.key, e.outcome, (e.at - begin).total_seconds()) for e in rig.effects("ask")] == [
        ("tide", "done", 2), ("wind", "done", 4),
    ]  # fmt: skip


def test_an_error_and_a_cancellation_are_on_record(rig: ic.Rig, way: Way) -> None:
    _, ask = way

    async def job() -> None:
        with pytest.raises(ConnectionError):
            await ask("fog")
        with pytest.raises(TimeoutError):
            await asyncio.wait_for(ask("tide"), 1)

    done = rig.enqueue(job)
    rig.advance("1m")
    assert done.state == "done"
    assert [(e.key, e.outcome) for e in rig.effects("ask")] == [("fog", "failed"), ("tide", "cancelled")]


@pytest.mark.parametrize("seam", ["before ask", "after ask"])
def test_a_crash_comes_where_its_seam_is(rig: ic.Rig, way: Way, seam: str) -> None:
    harbour, ask = way

    async def pilot() -> None:
        await ask("tide")
        await ask("wind")

    rig.faults.crash("pilot", at=seam, attempts=1)
    rig.enqueue(rig.job(pilot, lease="1m").call())
    rig.advance("50s")
    assert harbour.calls == ([] if seam == "before ask" else ["tide"])
    rig.advance("1m")
    assert harbour.calls == ["tide", "wind"] if seam == "before ask" else ["tide", "tide", "wind"]


def test_a_slow_seam_holds_up_its_own_coroutine_only(rig: ic.Rig) -> None:
    harbour, ticks = Harbour(), []
    rig.effect("ask", f"{__name__}:Harbour.coroutine")

    async def tick() -> None:
        for _ in range(5):
            await asyncio.sleep(1)
            ticks.append(harbour.calls[:])

    async def job() -> None:
        await harbour.coroutine("first")
        rig.faults.slow("job", at="before ask", by="10s", attempts=1)
        await asyncio.gather(harbour.coroutine("tide"), tick())

    rig.enqueue(job)
    rig.advance("1m")
    assert ticks == [["first"]] * 5
    assert harbour.calls == ["first", "tide"]


def decorated(function: Callable[..., Any]) -> Callable[..., Any]:
    @functools.wraps(function)
    def plain(*args: Any) -> Any:
        return function(*args)

    return plain


done_by: list[str] = []


@decorated
async def moor(vessel: str) -> str:
    await asyncio.sleep(5)
    done_by.append(vessel)
    return vessel


def test_a_job_that_is_a_plain_function_of_a_coroutine_runs_to_its_end(rig: ic.Rig) -> None:
    done_by.clear()
    job = rig.enqueue(moor, "Dunlin")
    rig.advance("4s")
    assert job.state == "running"
    rig.advance("1s")
    assert (job.state, job.result, done_by) == ("done", "Dunlin", ["Dunlin"])


def test_a_handler_that_is_one_ends_its_attempt_when_it_is_done(rig: ic.Rig) -> None:
    done_by.clear()

    async def works() -> None:
        for vessel in ("Dunlin", "Fulmar"):
            await moor(vessel)

    rig.handler(f"{__name__}:moor", job=lambda vessel: "moor")
    rig.run_loop(works)
    rig.advance("4s")
    assert rig.jobs().states() == {"running": 1}
    rig.advance("10s")
    assert done_by == ["Dunlin", "Fulmar"]
    spans = [
        attempt.ended_at - attempt.started_at
        for job in rig.jobs("moor")
        for attempt in job.attempts
        if attempt.ended_at
    ]
    assert [span.total_seconds() for span in spans] == [5, 5]


def test_an_iterator_that_its_reader_leaves_has_done_its_work(rig: ic.Rig, caplog: pytest.LogCaptureFixture) -> None:
    harbour = Harbour()
    rig.effect("ask", f"{__name__}:Harbour.each")

    async def job() -> str:
        return await anext(harbour.each("tide"))

    rig.enqueue(job)
    rig.advance("1m")
    assert [effect.outcome for effect in rig.effects("ask")] == ["done"]
    assert not caplog.records
