"""Flows: what follows from what, fan-out and join, remembered steps."""

from __future__ import annotations

import time
from typing import Any

import pytest

import ironclock as ic


def add(rig: ic.Rig, name: str, fn: Any = lambda *a: list(a), **policy: Any) -> ic.JobType:
    return rig.job(fn, name=name, **policy)


def broken(*_: Any) -> None:
    raise ConnectionError("the crane is stuck")


@pytest.mark.parametrize("fails", [False, True])
def test_after_success_after_failure_and_after_either(fails: bool) -> None:
    rig = ic.Rig()
    load = add(rig, "load", broken if fails else lambda: "loaded", retry=ic.Retry(2, "1m"))
    sail, warn, log, after_sail = (add(rig, n) for n in ("sail", "warn", "log", "arrive"))
    flow = rig.flow("departure")
    flow.add("load", load.call())
    flow.add("sail", sail.call(), after="load")
    flow.add("arrive", after_sail.call(), after="sail")
    flow.add("warn", warn.call(), after="load", when="failed")
    flow.add("log", log.call(), after=("sail", "warn"), when="ended")
    with rig:
        flow.start()
        assert flow.state == "running"
        rig.run_dry()
    ran = [job.name for job in rig.jobs()]
    assert ran == (["load", "warn", "log"] if fails else ["load", "sail", "arrive", "log"])
    assert flow.state == "done", "a failure that a step waits for is foreseen"
    assert flow["sail"].state == ("waiting" if fails else "done")


def test_fan_out_and_join_pass_results_on() -> None:
    rig = ic.Rig()
    rig.workers(4)

    def weigh(crate: int, factor: int) -> int:
        time.sleep(crate)
        return crate * factor

    crates = add(rig, "crates", lambda: [3, 1, 2])
    flow = rig.flow("loading")
    flow.add("crates", crates.call())
    flow.add("weigh", add(rig, "weigh", weigh), over="crates", args=[10])
    flow.add(
        "total",
        add(rig, "total", lambda weights, note: (sum(weights), note)),
        after="weigh",
        with_results=True,
        args=["kg"],
    )
    with rig:
        flow.start()
        rig.run_dry()
    assert flow.job("total").result == (60, "kg")
    assert flow["weigh"].result == [30, 10, 20], "in the order of the items, not of the ends"
    assert flow.job("total").enqueued_at == max(j.attempts[0].ended_at for j in flow["weigh"].jobs)


def test_an_empty_fan_out_is_over_at_once_and_a_failure_in_one_fails_the_join() -> None:
    rig = ic.Rig()
    for name, items in (("none", []), ("some", [1, 0, 2])):
        flow = rig.flow(name)
        flow.add("items", add(rig, f"items_{name}", lambda items=items: items).call())
        flow.add("divide", add(rig, f"divide_{name}", lambda n: 6 // n), over="items")
        flow.add("total", add(rig, f"total_{name}", lambda parts: sum(parts)), after="divide", with_results=True)
        with rig:
            flow.start()
            rig.run_dry()
        if name == "none":
            assert flow.job("total").result == 0
        else:
            assert (flow.state, flow["divide"].state, flow["total"].jobs) == ("failed", "failed", [])


def test_a_dead_letter_that_is_put_back_lets_the_flow_go_on() -> None:
    rig, up = ic.Rig(), []

    def load() -> str:
        if not up:
            raise ConnectionError
        return "loaded"

    flow = rig.flow("departure")
    flow.add("load", add(rig, "load", load).call())
    flow.add("sail", add(rig, "sail").call(), after="load")
    with rig:
        flow.start()
        rig.run_dry()
        assert flow.state == "failed"
        up.append(True)
        rig.dead.requeue()
        rig.run_dry()
    assert (flow.state, flow.job("sail").state) == ("done", "done")


def test_remembered_steps_are_not_run_again() -> None:
    rig, seen = ic.Rig(), []

    def step(name: str) -> dict[str, str]:
        seen.append(name)
        if name == "office" and seen.count("office") == 1:
            raise ConnectionError("the office is closed")
        return {"by": name}

    def submit(sailing: str) -> list[str]:
        made = [rig.remember(name, step, name) for name in ("count", "seal", "office")]
        made[0]["by"] += "!"
        return [m["by"] for m in made]

    with rig:
        job = rig.enqueue(rig.job(submit, retry=ic.Retry(3, "1m")).call("TL-204"))
        other = rig.enqueue(rig.job(submit, name="other").call("TL-205"))
        rig.run_dry()
    assert job.result == ["count!", "seal", "office"], "what was remembered is a copy"
    assert other.state == "done"
    assert seen[:3] == ["count", "seal", "office"]
    assert seen.count("count") == 2, "once for each job"
    assert "step 'seal' was done before and is not run again" in job.story()


@pytest.mark.parametrize(
    ("build", "says"),
    [
        (lambda f, c: f.add("a", c, after="c").add("b", c, after="a").add("c", c, after="b").start(),
         r"form a cycle: (a -> b -> c -> a|b -> c -> a -> b|c -> a -> b -> c)"),
        (lambda f, c: f.add("a", c, after="a").start(), "cycle: a -> a"),
        (lambda f, c: f.add("load", c).add("sail", c, after="laod").start(), "comes after 'laod', which is not a step; did you mean 'load'"),
        (lambda f, c: f.add("a", c).add("a", c), "has a step 'a' already"),
        (lambda f, c: f.add("a", "weigh"), "give a call"),
        (lambda f, c: f.add("a", c, when="late"), "when is 'late'"),
        (lambda f, c: f.add("a", c).add("b", c, after="a", with_results=True), "gets arguments from other steps as well; give its job type"),
        (lambda f, c: f.start(), "has no steps"),
        (lambda f, c: f.add("a", c).start().start(), "has started already"),
        (lambda f, c: f.add("a", c).start().add("b", c), "has started, and step 'b' is new; add all steps before"),
        (lambda f, c: f.add("a", c)["b"], "no step 'b'"),
    ],
)  # fmt: skip
def test_flows_that_cannot_be(build: Any, says: str) -> None:
    rig = ic.Rig()
    with pytest.raises(ic.FlowError, match=says):
        build(rig.flow("departure"), rig.job(time.sleep, name="nap").call(1))
    assert len(rig.jobs()) <= 1


def test_a_fan_out_over_what_is_no_list_says_so() -> None:
    rig = ic.Rig()
    flow = rig.flow("loading")
    flow.add("crates", add(rig, "crates", lambda: 3).call())
    flow.add("weigh", add(rig, "weigh"), over="crates")
    with rig:
        flow.start()
        with pytest.raises(
            ic.FlowError, match="'weigh' fans out over the result of 'crates', which is 3; let that step return a list"
        ):
            rig.run_dry()
