"""Orders: jobs and threads interrupted for one another, deadlocks, what is due at one instant."""

from __future__ import annotations

import queue
import sys
import threading
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any

import probed
import pytest

import ironclock as ic
from ironclock.search.fault_model import FaultModel
from ironclock.search.line_switches import Lines
from ironclock.search.plan import Plan
from ironclock.search.runs import SearchedStory

ORDERS: dict[str, Any] = {"depth": 0, "faults": []}


def test_a_lost_update_in_one_line_of_ordinary_code() -> None:
    assert not ic.probe(probed.counted, probed.COUNTED, **ORDERS), "without lines nothing comes between"
    (found,) = ic.probe(probed.counted, probed.COUNTED, lines="probed", **ORDERS)
    assert found.words == "1 of 2 cars"
    (move,) = found.plan.moves
    assert move.kind == "switch"
    assert move.place.where.startswith("probed.py:")
    assert move.place.where.endswith(", before it is stored")
    rig = ic.Rig()
    rig.replay(found.token)
    with rig:
        probed.counted(rig)
    assert rig.history.digest() == found.digest


def test_the_code_of_the_lines_is_put_back() -> None:
    before = probed.counted.__code__
    lines = Lines.of(["probed"])
    lines.install()
    assert probed.counted.__code__ is not before
    assert probed.counted.__code__.co_firstlineno == before.co_firstlineno
    lines.restore()
    assert probed.counted.__code__ is before
    ic.probe(probed.counted, probed.COUNTED, lines=probed, runs=20, **ORDERS)
    assert probed.counted.__code__ is before


def test_an_interruption_more_than_the_bound_is_not_tried() -> None:
    assert not ic.probe(probed.counted, probed.COUNTED, lines="probed", preemptions=0, **ORDERS)


def test_every_order_within_the_bound_is_tried_once() -> None:
    found = ic.probe(probed.counted, [], lines="probed", preemptions=1, **ORDERS)
    coverage = found.coverage
    assert coverage.orders_complete
    # Beside the ordinary one there is an order for each point at which it can be interrupted.
    assert coverage.schedules == coverage.switchable == coverage.runs - 1
    assert coverage.random_orders == 0
    deeper = ic.probe(probed.counted, [], lines="probed", preemptions=2, **ORDERS)
    assert deeper.coverage.schedules > coverage.schedules


def test_random_priorities_take_over_where_the_runs_do_not_suffice() -> None:
    found = ic.probe(partial(probed.counted, cars=4), [], lines="probed", runs=60, **ORDERS)
    assert not found.coverage.orders_complete
    assert found.coverage.random_orders > 10
    assert "not every one with at most 2 preemptions" in str(found)


def test_the_guarantee_of_random_priorities() -> None:
    # n tasks, k points, an update lost by d = 2 ordering constraints: at least 1 / (n * k) of the runs.
    trial = SearchedStory(probed.counted, (probed.all_counted,), FaultModel(()), {}, ("probed",))
    lines = Lines.of(["probed"])
    lines.install()
    try:
        points = len(trial.run(Plan(), notes_switches=True).points)
        hits = sum(bool(trial.run(Plan(dice=(f"seed {n}", 2, points))).broken) for n in range(400))
    finally:
        lines.restore()
    assert hits / 400 >= 1 / (2 * points)


def test_a_deadlock_names_its_locks() -> None:
    found = ic.probe(probed.crossed, ic.laws.nothing_lost())
    assert [one.law for one in found] == ["nothing_lost", "no_deadlock"]
    words = found[1].words
    assert words.count("for the lock that") == 2
    assert "load-1/1 waits at probed.py:" in words
    assert "that unload-2/1 took at probed.py:" in words
    rig = ic.Rig()
    rig.replay(found[1].token)
    with rig:
        probed.crossed(rig)
    with pytest.raises(ic.BrokenLaw, match="waits at"):
        rig.check(ic.laws.no_deadlock())


def test_a_lock_that_a_dead_worker_held_is_free_again() -> None:
    gate = threading.Lock()

    def story(rig: ic.Rig) -> None:
        mail = rig.service(ic.services.Mail())

        def work() -> None:
            with gate:
                mail.send("ina", "hello")

        rig.enqueue(rig.job(work).call())
        rig.run_dry()

    assert not ic.probe(story, ic.laws.nothing_lost())
    assert not gate.locked()


def test_check_then_act_across_a_network_needs_no_lines() -> None:
    def story(rig: ic.Rig, *, fixed: bool = False) -> None:
        store = rig.service(ic.services.KeyValue())

        def reserve() -> int:
            if fixed:
                return store.increment("seat")
            seat = int(store.get("seat", 0)) + 1
            store.set("seat", seat)
            return seat

        rig.workers(2)
        kind = rig.job(reserve)
        for _ in range(2):
            rig.enqueue(kind.call())
        rig.run_dry()

    law = ic.laws.holds("seats differ", lambda world: len({job.result for job in world}) == len(world))
    (found,) = ic.probe(story, law, **ORDERS)
    assert [move.kind for move in found.plan.moves] == ["switch"]
    assert not ic.probe(partial(story, fixed=True), law, **ORDERS)


@pytest.mark.parametrize(
    "how", ["threads", *(pytest.param(how, marks=pytest.mark.exhaustive) for how in ("a pool", "a queue"))]
)
def test_threads_of_a_job_are_interrupted_too(how: str) -> None:
    def story(rig: ic.Rig) -> None:
        store = rig.service(ic.services.KeyValue())

        def count() -> None:
            store.set("cars", int(store.get("cars", 0)) + 1)

        def work() -> int:
            if how == "threads":
                threads = [threading.Thread(target=count) for _ in range(2)]
                for thread in threads:
                    thread.start()
                for thread in threads:
                    thread.join()
            elif how == "a pool":
                with ThreadPoolExecutor(2) as pool:
                    list(pool.map(lambda _: count(), range(2)))
            else:
                lane: queue.Queue[bool] = queue.Queue()

                def count_from_lane() -> None:
                    while lane.get():
                        count()
                        lane.task_done()

                threads = [threading.Thread(target=count_from_lane) for _ in range(2)]
                for thread in threads:
                    thread.start()
                for _ in range(2):
                    lane.put(True)
                lane.join()
                for _ in threads:
                    lane.put(False)
                for thread in threads:
                    thread.join()
            return int(store.get("cars"))

        rig.enqueue(rig.job(work).call())
        rig.run_dry()

    law = ic.laws.holds("both are counted", lambda world: world[0].result in (2, None))
    found = ic.probe(story, law, **ORDERS)
    assert [one.law for one in found] == ["holds"]
    assert "thread" in str(found[0].moves)


def test_what_falls_due_together_runs_in_any_order_and_a_queue_keeps_its_own() -> None:
    def story(rig: ic.Rig, after: str | None = "20m") -> None:
        kind = rig.job(lambda n: None, name="work")
        for number in range(3):
            rig.enqueue(kind.call(number), after=after)
        rig.run_dry()

    def in_order(world: ic.laws.World) -> list[str]:
        done = [entry.job for entry in world.entries if entry.what == "done"]
        return [] if done == sorted(done, key=str) else [f"they ran as {done}"]

    (found,) = ic.probe(story, in_order, **ORDERS)
    assert found.plan.moves[0].kind == "first"
    assert not ic.probe(partial(story, after=None), in_order, **ORDERS)
    assert not ic.probe(story, in_order, depth=0, orders=False)


def test_firings_at_one_instant_are_permuted() -> None:
    def story(rig: ic.Rig) -> None:
        for name in ("open", "close"):
            rig.schedule(name, rig.job(lambda: None, name=name).call(), ic.cron("0 12 * * *"))
        rig.advance("1d")

    def opens_first(world: ic.laws.World) -> list[str]:
        return [f"{entry.name} comes first" for entry in world.entries[:1] if entry.name == "close"]

    (found,) = ic.probe(story, opens_first, **ORDERS)
    assert found.moves == ("schedule open, due: schedule close goes first",)


def test_lines_of_what_has_no_source() -> None:
    with pytest.raises(ic.InputError, match=r"'math', which has no Python source"):
        ic.probe(probed.counted, lines="math")
    with pytest.raises(ic.InputError, match="give modules, or their names"):
        ic.probe(probed.counted, lines=[3])  # type: ignore[list-item]


@pytest.mark.exhaustive
@pytest.mark.parametrize("kind", [threading.Lock, threading.Condition])
def test_a_trace_function_changes_nothing_of_a_search(kind: Any) -> None:
    """Coverage and debuggers trace: frames live longer and stand at other addresses."""

    def story(rig: ic.Rig) -> None:
        cars, guard = [0], kind()

        def count() -> None:
            with guard:
                seen = cars[0]
            with guard:
                cars[0] = seen + 1

        def count_twice() -> None:
            for _ in range(2):
                count()

        def work() -> int:
            threads = [threading.Thread(target=count_twice) for _ in range(2)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            return cars[0]

        rig.enqueue(rig.job(work))
        rig.run_dry()

    law = ic.laws.holds("all are counted", lambda world: world[0].result in (4, None))
    kept: list[Any] = []

    def trace(frame: Any, event: str, argument: Any) -> Any:
        kept.append(frame)  # as a tracer that remembers where it was
        if len(kept) > 5_000:
            kept.clear()
        return trace

    plain = ic.probe(story, law, **ORDERS)
    before = sys.gettrace()
    sys.settrace(trace)
    try:
        traced = ic.probe(story, law, **ORDERS)
    finally:
        sys.settrace(before)
    assert plain
    assert [one.token for one in traced] == [one.token for one in plain]
    assert str(traced.coverage) == str(plain.coverage)
