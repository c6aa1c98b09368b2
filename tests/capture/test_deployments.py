"""Rolling deployments: two versions of handlers work one queue."""

from __future__ import annotations

import asyncio
from types import SimpleNamespace
from typing import Any

import pytest

import ironclock as ic


def world(rig: ic.Rig, **policy: Any) -> tuple[Any, list[tuple[str, str]], Any, Any]:
    done: list[tuple[str, str]] = []

    def charge(booking: str) -> None:
        done.append(("old", booking))

    def charge_3(booking: str, seats: int = 1) -> None:
        done.append(("new", booking))

    return rig.job(charge, **policy), done, charge, charge_3


def test_either_version_takes_a_job_and_then_the_new_one_takes_all() -> None:
    with ic.Rig() as rig:
        job, done, old, new = world(rig)
        rig.enqueue(job.call("before"))
        rig.settle()
        deployment = rig.deploy(old=old, new=new, over="5m")
        for number in range(20):
            rig.enqueue(job.call(f"B-{number}"), after=f"{number * 15}s")
        rig.enqueue(job.call("after"), after="5m")
        rig.run_dry()
    assert done[0] == ("old", "before")
    during = {version for version, booking in done if booking.startswith("B-")}
    assert during == {"old", "new"}
    assert done[-1] == ("new", "after")
    taken = [version for version, booking in done if booking.startswith("B-")]
    assert deployment.taken == {"old": taken.count("old"), "new": taken.count("new")}
    assert (deployment.end - deployment.begin).total_seconds() == 300
    assert not deployment.under_way
    assert repr(deployment).startswith("<deployment of charge: over, ")
    story = rig.history.story()
    assert "a deployment begins: charge" in story
    assert "the deployment is over: charge" in story
    assert f"attempt 1: the {done[1][0]} version takes it" in story or f"the {done[1][0]} version takes it" in story


def test_the_seed_decides_and_a_function_can() -> None:
    def versions(**options: Any) -> list[str]:
        with ic.Rig(seed=options.pop("seed", 0)) as rig:
            job, done, old, new = world(rig)
            rig.deploy(old=old, new=new, **options)
            for number in range(12):
                rig.enqueue(job.call(f"B-{number}"))
            rig.run_dry()
        return [version for version, _ in done]

    assert versions() == versions()
    assert versions(seed=1) != versions(seed=2)
    even = versions(chooses=lambda attempt: "new" if attempt.job.number % 2 else "old")
    assert even == ["new", "old"] * 6


def test_a_job_that_only_one_version_knows() -> None:
    with ic.Rig() as rig:
        done: list[str] = []

        def refund(booking: str) -> None:
            done.append(booking)

        rig.deploy(old={}, new={"refund": refund}, chooses=lambda attempt: "old" if attempt.number == 1 else "new")
        job = rig.enqueue(rig.job(refund, name="refund").call("B-1"))
        rig.settle()
        assert isinstance(job.error, ic.UnknownJob)
        assert "the old version does not know the job 'refund'" in str(job.error)
        rig.advance("6m")
        rig.dead.requeue()
        rig.run_dry()
    assert done == ["B-1"]


def test_a_job_that_the_new_version_has_dropped() -> None:
    with ic.Rig() as rig:
        job, _, old, _ = world(rig)
        rig.deploy(old={"charge": old}, new={"charge": None}, over="1m")
        rig.advance("2m")
        late = rig.enqueue(job.call("B-9"))
        rig.settle()
        assert "the new version does not know the job 'charge'" in str(late.error)


def test_modules_and_arguments_of_either_version() -> None:
    def charge(booking: str) -> None:
        pass

    def charge_with_seats(booking: str, *, seats: int) -> int:
        return seats

    charge_with_seats.__name__ = "charge"
    fares_2, fares_3 = SimpleNamespace(charge=charge), SimpleNamespace(charge=charge_with_seats)
    with ic.Rig() as rig:
        job = rig.job(charge, key="booking", unique="keep")
        rig.deploy(old=fares_2, new=fares_3, chooses=lambda attempt: "new" if attempt.job.kwargs else "old")
        first = rig.enqueue(job.call("B-1"))
        second = rig.enqueue(job.call("B-2", seats=3))
        rig.enqueue(charge_with_seats, "B-3", seats=4)
        rig.run_dry()
        assert (first.state, second.result) == ("done", 3)
        assert len(rig.jobs("charge")) == 3
        with pytest.raises(ic.InputError, match=r"does not take these arguments: .*; or, in the other version: "):
            job.call("B-4", deck="car")


def test_one_version_is_async() -> None:
    done: list[str] = []

    def sail() -> None:
        done.append("old")

    async def sail_4() -> None:
        await asyncio.sleep(5)
        done.append("new")

    with ic.Rig() as rig:
        job = rig.job(sail)
        rig.deploy(old=sail, new=sail_4, over="1m", chooses=lambda attempt: "old" if attempt.job.number == 1 else "new")
        for _ in range(2):
            rig.enqueue(job.call())
        rig.advance("2m")
        rig.enqueue(job.call())
        rig.run_dry()
    assert done == ["old", "new", "new"]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        ({"old": len, "new": 3}, "give two functions, two mappings or two modules"),
        ({"old": {}, "new": {}}, "old and new are empty; give functions by the names of their jobs"),
        ({"old": {"a": None}, "new": {}}, "neither version has a function for the job 'a'"),
        ({"old": {"a": 3}, "new": {}}, "the old version has 3 for the job 'a'; give a function"),
        ({"old": pytest, "new": asyncio}, "no job type of the rig has a function of pytest or asyncio"),
        ({"old": len, "new": len, "over": 0}, "over is 0; give how long both versions are there"),
        ({"old": len, "new": len, "chooses": 3}, "chooses is 3; give a function of the attempt"),
    ],
)
def test_what_cannot_be_deployed(arguments: dict[str, Any], says: str) -> None:
    with ic.Rig() as rig, pytest.raises(ic.InputError) as caught:
        rig.deploy(**arguments)
    assert says in str(caught.value)


def test_two_deployments_of_one_job_at_once() -> None:
    with ic.Rig() as rig:
        _, _, old, new = world(rig)
        rig.deploy(old=old, new=new)
        with pytest.raises(ic.RigStateError, match="a deployment of 'charge' is under way"):
            rig.deploy(old=new, new=old)
        rig.advance("5m")
        rig.deploy(old=new, new=old)


def test_job_types_stand_for_their_functions() -> None:
    with ic.Rig() as rig:
        job, done, _, new = world(rig)
        rig.deploy(old=job, new=rig.job(new), chooses=lambda attempt: "new")
        rig.enqueue(job.call("B-1"))
        rig.run_dry()
    assert done == [("new", "B-1")]


def test_the_probe_chooses_the_version() -> None:
    """Both versions charge once, and each forgets what the other one has noted: only the mix charges twice."""

    def story(rig: ic.Rig) -> None:
        bank = rig.service(ic.services.Ledger("bank"))
        by_booking: set[str] = set()
        by_number: set[str] = set()

        def charge(booking: str) -> None:
            if booking not in by_booking:
                by_booking.add(booking)
                bank.post("passenger", "fares", 340, key=booking)

        def charge_3(booking: str) -> None:
            if booking[2:] not in by_number:
                by_number.add(booking[2:])
                bank.post("passenger", "fares", 340, key=booking)

        job = rig.job(charge, retry=ic.Retry(attempts=3, wait="1m"))
        rig.deploy(old=charge, new=charge_3, chooses=lambda attempt: "old")
        rig.enqueue(job.call("B-1"))
        rig.run_dry()

    laws = [ic.laws.no_key_twice()]
    alone = ic.probe(story, laws, faults=["fail"], orders=False)
    assert not alone, alone
    (finding,) = ic.probe(story, laws, faults=["fail", "other_version"], orders=False)
    assert any("the other version takes it" in move for move in finding.moves)
    assert len(finding.moves) == 2
    rig = ic.Rig()
    rig.replay(finding.token)
    with rig:
        story(rig)
    with pytest.raises(ic.laws.BrokenLaw, match=r"bank\.post of 'B-1' is done 2 times"):
        rig.check(*laws)
