"""The search over faults: what is placed where, what is found, how it is shrunk and told."""

from __future__ import annotations

import contextlib
import gc
import re
import subprocess
import sys
import textwrap
import threading
import time
from collections.abc import Callable
from functools import partial
from typing import Any

import pytest
from probed import LAWS, charges, sound

import ironclock as ic
from ironclock.search.fault_model import FAULTS, FaultModel
from ironclock.search.plan import LASTING, Move, Place, Plan
from ironclock.search.runners import Runner, RunRequest
from ironclock.search.runs import SearchedStory
from ironclock.search.search import DrawnSets


def moves(finding: ic.Finding) -> list[tuple[str, str, str]]:
    return [(move.kind, move.place.who, move.place.where) for move in finding.plan.moves]


def one_job(rig: ic.Rig, work: Callable[[], Any], **policy: Any) -> None:
    rig.enqueue(rig.job(work, name="work", **policy).call())
    rig.run_dry()


def test_a_double_charge_is_found_shrunk_and_told() -> None:
    (found,) = ic.probe(partial(charges, bookings=6), LAWS)
    assert (found.law, found.words) == ("once_per_key", "bank.post of 'B-1' is done 2 times")
    assert moves(found) == [("fail", "charge_fare-1/1", "after bank.post")]
    assert found.plan.kept == ("charge_fare-1",), "of six bookings one is enough"
    assert found.story.count("effect bank.post") == 2
    assert "charge_fare-2" not in found.story
    assert found.also > 10
    assert "replay: ic1-" in str(found)
    assert len(found.token) < 120


def test_single_faults_and_pairs_are_all_tried_where_the_runs_suffice() -> None:
    found = ic.probe(sound, LAWS, orders=False, runs=5_000, faults=set(FAULTS) - LASTING)
    assert not found
    coverage = found.coverage
    # Each of two attempts passes start, before and after the effect, and ack; each job one delivery.
    assert coverage.seams == len(coverage.passed) == 2 * 5
    assert coverage.passed[:2] == ["charge_fare-1, delivery", "charge_fare-1, attempt 1, start"]
    assert coverage.fitting == coverage.tried == 2 * (1 + 4 + 3 + 3 + 2)
    assert coverage.pairs_tried == coverage.pairs > 300
    assert coverage.runs == 1 + coverage.tried + coverage.pairs_tried
    assert not coverage.why


def test_what_is_left_untried_is_said() -> None:
    found = ic.probe(sound, LAWS, runs=12)
    assert found.coverage.runs == 12
    assert "not tried: 29 single faults, because 12 runs are used up" in str(found)


@pytest.mark.parametrize(
    ("policy", "hangs"), [({}, False), ({"timeout": "10s"}, True)], ids=["no timeout", "a timeout"]
)
def test_each_kind_of_fault_is_placed_where_it_fits(policy: dict[str, Any], hangs: bool) -> None:
    placed: set[tuple[str, str]] = set()

    def story(rig: ic.Rig) -> None:
        mail = rig.service(ic.services.Mail())
        late = rig.job(lambda: None, name="late")

        def work() -> None:
            time.sleep(1)
            mail.send("ina", "hello")
            with rig.transaction():
                rig.enqueue(late.call())
            rig.enqueue(late.call())

        rig.schedule("poll", rig.job(lambda: None, name="poll").call(), ic.every("1h"))
        with rig.transaction(joins=False):
            rig.enqueue(rig.job(work, **policy).call())
        rig.advance("90m")

    for place, fitting in SearchedStory(story, (), FaultModel()).run(Plan(), notes_seams=True).seams:
        if place.who.partition("/")[0] in ("work-1", "schedule poll"):
            placed.update((move.kind, place.where) for move in fitting)
    expected = {
        ("delay", "delivery"), ("fetch_early", "before commit"), ("delay", "firing"), ("miss_firing", "firing"),
        ("crash", "start"), ("deliver_twice", "start"), ("slow", "start"),
        ("crash", "sleep"), ("slow", "sleep"), ("fail", "before mail.send"), ("crash", "before mail.send"),
        ("slow", "before mail.send"), ("fail", "after mail.send"), ("crash", "after mail.send"),
        ("slow", "after mail.send"), ("refuse_enqueue", "enqueue"), ("crash", "enqueue"), ("fail", "commit"),
        ("crash", "commit"), ("fail", "after commit"), ("crash", "after commit"), ("fail", "after enqueue"),
        ("crash", "after enqueue"), ("crash", "ack"), ("lose_ack", "ack"),
    }  # fmt: skip
    expected |= {("fail_repeatedly", "before mail.send"), ("outage", "before mail.send")}
    if hangs:
        expected |= {("hang", "before mail.send")}
    assert placed == expected


def test_two_faults_at_once() -> None:
    def story(rig: ic.Rig) -> None:
        bank = rig.service(ic.services.Ledger("bank"))
        errors: list[int] = []

        def charge_fare() -> None:
            try:
                bank.post("passenger", "fares", 180, key=f"B-1 after {len(errors)}")
            except ConnectionError:
                errors.append(1)
                raise

        one_job(rig, charge_fare, retry=ic.Retry(4, "30s"))

    law = ic.laws.holds("it is tried three times at most", lambda world: len(world[0].attempts) < 3)
    assert not ic.probe(story, law, depth=1, faults=["fail", "crash", "slow"])
    (found,) = ic.probe(story, law, faults=["fail", "crash", "slow"])
    assert len(found.plan.moves) == 2
    assert {move.place.who for move in found.plan.moves} == {"work-1/1", "work-1/2"}
    (found,) = ic.probe(story, law, depth=1)
    assert found.moves == ("work-1, attempt 1, start: it fails 2 times in a row",)


def five_tries(rig: ic.Rig) -> None:
    mail = rig.service(ic.services.Mail())
    one_job(rig, lambda: mail.send("ina", "hello"), retry=ic.Retry(9, "1m"))


def fails_at_most(count: int) -> Any:
    return ic.laws.holds(
        f"it fails {count} times at most",
        lambda world: sum(entry.what == "failed" for entry in world.entries) <= count,
    )


@pytest.mark.exhaustive
def test_an_effect_fails_several_times_in_a_row() -> None:
    (found,) = ic.probe(five_tries, fails_at_most(3), depth=1, faults=["fail_repeatedly"])
    assert found.moves == ("work-1, attempt 1, start: it fails 4 times in a row",), "as few as break the law"
    (found,) = ic.probe(five_tries, fails_at_most(6), depth=1, faults=["fail_repeatedly"], in_a_row=(7,))
    assert found.moves == ("work-1, attempt 1, start: it fails 7 times in a row",)
    (found,) = ic.probe(five_tries, fails_at_most(3), depth=1, faults=["outage"], outage="4m")
    assert found.moves == ("work-1, attempt 1, before mail.send: an outage of 3m1s",), "as short as breaks the law"
    lasting = ["fail", "fail_repeatedly", "outage"]
    assert not ic.probe(five_tries, fails_at_most(8), faults=lasting), "the last attempt is never made to fail"
    rig = ic.Rig()
    rig.replay(found.token)
    with rig:
        five_tries(rig)
    assert rig.history.digest() == found.digest


def test_a_job_dies_of_failures_in_a_row_if_that_is_asked_for() -> None:
    def story(rig: ic.Rig) -> None:
        five_tries(rig)
        rig.advance("1h")

    law = ic.laws.holds("it is done", lambda world: world[0].state == "done")
    assert not ic.probe(story, law, faults=["fail_repeatedly", "outage"], outage="20m")
    (found,) = ic.probe(story, law, faults=["outage", "exhaust"], outage="20m", depth=1)
    assert found.moves == ("work-1, attempt 1, before mail.send: an outage of 8m1s",)
    rig = ic.Rig()
    rig.replay(found.token)
    with rig:
        story(rig)
        list(rig.dead)
    assert rig.history.digest() == found.digest


def test_a_run_that_ends_in_an_outage_is_not_judged() -> None:
    def story(rig: ic.Rig) -> None:
        mail = rig.service(ic.services.Mail())
        sent: list[str] = []

        def poll() -> None:
            while not sent:
                with contextlib.suppress(ConnectionError):
                    mail.send("ina", "hello")
                    sent.append("ina")
                time.sleep(10)

        rig.run_loop(poll)
        rig.advance("5m")

    law = ic.laws.holds("the letter is sent", lambda world: len(world.effects_of("mail.send")) > 0)
    found = ic.probe(story, law, faults=["outage"], depth=1)
    assert not found
    assert found.coverage.in_outage == 1
    assert found.coverage.tried == 2, "and a tenth of it"
    assert "1 runs that ended in an outage; their laws were not checked" in str(found)


def test_a_run_in_which_nothing_is_tried_again_after_a_lasting_fault_is_not_judged() -> None:
    """What would put everything right comes later than the end of the story."""

    def story(rig: ic.Rig, span: str) -> None:
        mail = rig.service(ic.services.Mail())
        unsent = ["ina"]

        def tell() -> None:
            while unsent:
                mail.send(unsent[0], "hello")
                del unsent[0]

        rig.schedule("tell", rig.job(tell).call(), "10m")
        rig.allow("dead jobs")
        rig.advance(span)

    law = ic.laws.holds("the letter is sent", lambda world: len(world.effects_of("mail.send")) > 0)
    options: dict[str, Any] = {"faults": ["fail_repeatedly"], "depth": 1, "orders": False, "in_a_row": (2,)}
    short = ic.probe(partial(story, span="25m"), law, **options)
    assert not short, short
    assert short.coverage.not_recovered
    assert "in which nothing was tried again after a lasting fault; their laws were not checked" in str(short)
    assert not ic.probe(partial(story, span="1h"), law, **options)


def test_faults_strike_in_worker_loops_that_nobody_observes() -> None:
    """A seam of a worker loop is not one of a job with the same number."""

    def story(rig: ic.Rig) -> None:
        load = rig.effect("deck.load", lambda: None)

        def work() -> None:
            load()
            load()

        rig.run_loop(work, name="worker", restart="1m")
        rig.advance("10m")

    law = ic.laws.holds("it loads twice", lambda world: len(world.effects_of("deck.load")) == 2)
    (found,) = ic.probe(story, law, faults=["fail"], depth=1, orders=False)
    assert found.moves == ("worker-1, after deck.load: an error",)


def test_an_outage_is_of_the_whole_service_and_of_no_other() -> None:
    def story(rig: ic.Rig) -> None:
        store, mail = rig.service(ic.services.KeyValue()), rig.service(ic.services.Mail())

        def work() -> None:
            for call in (lambda: store.get("a"), lambda: store.set("a", 1), lambda: mail.send("ina", "hello")):
                with contextlib.suppress(ConnectionError):
                    call()
                time.sleep(1)

        kind = rig.job(work)
        rig.enqueue(kind.call())
        rig.enqueue(kind.call(), after="30s")  # after an outage, one starts unharmed
        rig.run_dry()

    seen: set[tuple[str, ...]] = set()

    def law(world: ic.laws.World) -> list[str]:
        seen.add(tuple(str(e.data["effect"]) for e in world.entries if e.what == "effect" and e.effect is None))
        return []

    ic.probe(story, law, faults=["outage"], depth=1, orders=False, outage="1500ms")
    assert seen == {(), ("store.get", "store.set"), ("store.set",), ("mail.send",)}


def test_sets_are_drawn_from_seams_that_faults_lead_to_and_never_twice() -> None:
    def story(rig: ic.Rig) -> None:
        one_job(rig, lambda: None, retry=ic.Retry(6, "1m"))

    law = fails_at_most(3)
    assert not ic.probe(story, law, faults=["fail"], orders=False), "it takes four failures, one after the other"
    (found,) = ic.probe(story, law, faults=["fail"], orders=False, depth=4)
    assert [move.place.who for move in found.plan.moves] == [f"work-1/{n}" for n in (1, 2, 3, 4)]
    seen = DrawnSets(1_000)
    moves = [Move(Place(f"work-{n}", "start"), "fail") for n in range(30)]
    sets = [(moves[a], moves[b], moves[c]) for a in range(10) for b in range(10, 20) for c in range(20, 30)]
    assert [seen.is_new(one) for one in sets] == [True] * 1_000
    assert not any(seen.is_new(one[::-1]) for one in sets)


def test_idle_polls_are_one_seam() -> None:
    def story(rig: ic.Rig) -> None:
        waiting = ["red", "blue"]
        load = rig.effect("deck.load", lambda car: None, key=lambda car: car)

        def work() -> None:
            while True:
                if waiting and rig.now.minute == 5:
                    load(waiting.pop())
                time.sleep(1)

        rig.run_loop(work, name="loader")
        rig.advance("10m")

    coverage = ic.probe(story, runs=200, orders=False).coverage
    assert coverage.seams < 20
    assert coverage.folded > 500
    assert f"{coverage.folded} more seams, at which nothing had happened since the last visit, count as one" in str(
        coverage
    )


@pytest.mark.exhaustive
def test_three_faults_are_drawn_by_lot() -> None:
    def story(rig: ic.Rig) -> None:
        for name in ("red", "blue", "grey"):
            rig.enqueue(rig.job(lambda: None, name=name, retry=ic.Retry(3, "1s")).call())
        rig.run_dry()

    def not_all_three(world: ic.laws.World) -> list[str]:
        return ["all three failed"] if all(job.attempts_made > 1 for job in world) and len(world) == 3 else []

    assert not ic.probe(story, not_all_three, runs=500, orders=False)
    (found,) = ic.probe(story, not_all_three, depth=3, runs=2_000, orders=False)
    assert len(found.plan.moves) == 3
    assert found.at_run > 200, "after every single fault and every pair"


def test_a_law_that_breaks_without_any_fault_needs_none() -> None:
    found = ic.probe(sound, ic.laws.holds("nothing is charged", lambda world: not world.effects))
    assert [one.plan.moves for one in found] == [()]
    assert "although nothing goes wrong" in str(found)


def test_a_law_excuses_the_faults_that_it_says_nothing_about() -> None:
    def story(rig: ic.Rig) -> None:
        rig.workers(2)
        one_job(rig, lambda: time.sleep(5), retry=ic.Retry(3, "1s"))

    assert not ic.probe(story, ic.laws.no_overlap())
    (found,) = ic.probe(story, lambda world: list(ic.laws.no_overlap()(world)))
    assert moves(found) == [("deliver_twice", "work-1/1", "start")]


def test_delays_say_nothing_about_a_limit_that_is_shorter() -> None:
    def story(rig: ic.Rig) -> None:
        one_job(rig, lambda: None, retry=ic.Retry(3, "1s"), takes="15s")

    assert not ic.probe(story, ic.laws.finishes_within("work", "100s"))
    (found,) = ic.probe(story, ic.laws.finishes_within("work", "100s"), slow="45s", delay="45s")
    assert len(found.plan.moves) == 2
    assert sum(int(move.by) for move in found.plan.moves) == 86e9, "the shortest delays that do"


def test_errors_are_those_that_were_asked_for() -> None:
    def story(rig: ic.Rig) -> None:
        mail = rig.service(ic.services.Mail())

        def work() -> None:
            try:
                mail.send("ina", "hello")
            except KeyError:
                rig.note("a strange error")

        one_job(rig, work, retry=ic.Retry(3, "1s"))

    def law(world: ic.laws.World) -> list[str]:
        return [entry.data["text"] for entry in world.history if entry.what == "note"]

    assert not ic.probe(story, law, faults=["fail"])
    (found,) = ic.probe(story, law, faults=["fail"], errors={"mail.send": KeyError})
    rig = ic.Rig()
    rig.replay(found.token)
    with rig:
        story(rig)
    assert law(rig.world) == ["a strange error"], "the token knows the error"


@pytest.mark.exhaustive
def test_the_last_attempt_is_spared_unless_it_is_asked_for() -> None:
    def story(rig: ic.Rig) -> None:
        one_job(rig, lambda: None, retry=ic.Retry(2, "1s"))

    law = ic.laws.holds("nothing dies", lambda world: all(job.state != "dead" for job in world))
    assert not ic.probe(story, law)
    (found,) = ic.probe(story, law, faults=["fail", "exhaust"])
    assert [who for _, who, _ in moves(found)] == ["work-1/1", "work-1/2"]

    def once(rig: ic.Rig) -> None:
        mail = rig.service(ic.services.Mail())
        one_job(rig, lambda: mail.send("ina", "hello"))

    (found,) = ic.probe(once, law)
    assert moves(found) == [("fail", "work-1/1", "before mail.send")], "not at the start of its only attempt"


def test_firings_come_late_or_are_missed() -> None:
    def story(rig: ic.Rig) -> None:
        rig.schedule("close", rig.job(lambda: None, name="close").call(), ic.every("10m"), missed="none")
        rig.advance("35m")

    law = ic.laws.holds("the till is closed three times", lambda world: len(world.of("close")) >= 3)
    (found,) = ic.probe(story, law)
    assert moves(found) == [("miss_firing", "schedule close", "firing")]
    assert "the scheduler is down for" in found.story
    late = ic.laws.holds(
        "no run begins late",
        lambda world: all(e.ns % 600_000_000_000 == 0 for e in world.entries if e.what == "enqueued"),
    )
    (found,) = ic.probe(story, late, faults=["delay"])
    assert moves(found) == [("delay", "schedule close", "firing")]


def test_a_request_that_fails_may_leave_a_job_behind() -> None:
    def story(rig: ic.Rig, *, fixed: bool = False) -> None:
        mail = rig.service(ic.services.Mail())
        kind = rig.job(lambda: None, name="confirm")
        with rig.request("book"):
            if not fixed:
                rig.enqueue(kind.call())
            mail.send("desk", "a booking")
            if fixed:
                rig.enqueue(kind.call())
        rig.run_dry()

    (found,) = ic.probe(story, ic.laws.nothing_left_behind())
    assert moves(found)[0][1] == "request book"
    assert found.plan.moves[0].place.where == "after enqueue"
    (later,) = ic.probe(story, ic.laws.nothing_left_behind(), faults=["slow", "fail"], errors={"mail.send": OSError})
    assert later.plan.moves[0].kind == "fail"


def test_the_storys_own_assertions_are_its_law_where_it_has_no_other() -> None:
    def story(rig: ic.Rig) -> None:
        mail = rig.service(ic.services.Mail())
        one_job(rig, lambda: mail.send("ina", "hello"))
        assert rig.jobs("work").one().state == "done"

    (found,) = ic.probe(story, orders=False)
    assert found.law == "the story itself"
    found_none = ic.probe(story, [ic.laws.nothing_lost()], orders=False)
    assert not found_none
    assert found_none.coverage.ended_early > 0


def test_durations_vary_within_their_range() -> None:
    def story(rig: ic.Rig) -> None:
        rig.workers(2)
        rig.enqueue(rig.job(lambda: None, name="list", takes="1s", retry=ic.Retry(5, "1s")).call())
        rig.enqueue(rig.job(lambda: None, name="leave").call(), after="20m")
        rig.run_dry()

    law = ic.laws.holds(
        "the list is there before the boat leaves",
        lambda world: next((e.name for e in world.entries if e.what == "done"), "list") == "list",
    )
    assert not ic.probe(story, law)
    assert not ic.probe(story, law, durations={"list": ("1s", "19m")}, faults=[])
    (found,) = ic.probe(story, law, durations={"list": ("1s", "30m")}, faults=[])
    assert found.plan.moves[0].kind == "takes"
    assert 1_200 <= int(found.plan.moves[0].by) / 1e9 <= 1_201, "shrunk to the shortest that does"


@pytest.mark.parametrize(
    ("kind", "dates"),
    [
        ("clock change", ["2031-03-29", "2031-10-25"]), ("month end", ["2031-03-30", "2031-03-31"]),
        ("leap day", ["2032-02-28", "2032-02-29"]), ("year end", ["2031-12-30", "2031-12-31"]),
    ],
)  # fmt: skip
def test_starts_are_moved(kind: str, dates: list[str]) -> None:
    seen: list[str] = []

    def story(rig: ic.Rig) -> None:
        if rig.now.isoformat()[:4] != "2030":
            seen.append(rig.now.isoformat())
        rig.enqueue(rig.job(lambda: None, name="work").call())
        rig.run_dry()

    world = {"start": "2031-03-03T09:00", "zone": "Atlantic/Faroe"}
    found = ic.probe(story, starts=kind, rig=world, depth=0, orders=False)
    assert found.coverage.starts >= 3
    assert set(dates) <= {start[:10] for start in seen}


@pytest.mark.parametrize(
    ("kind", "schedule", "first"),
    [
        ("clock change", ic.cron("0 8 * * 1"), "2031-03-23"), ("month end", ic.cron("0 8 1 * *"), "2031-02-28"),
        ("leap day", ic.cron("0 8 * * 0"), "2032-02-21"), ("year end", ic.cron("0 8 15 * *"), "2031-12-14"),
        ("year end", ic.cron("0 8 * * *"), None),
    ],
)  # fmt: skip
def test_a_start_is_before_the_last_run_of_a_schedule(kind: str, schedule: Any, first: str | None) -> None:
    def story(rig: ic.Rig) -> None:
        seen.add(rig.now.isoformat()[:10])
        rig.schedule("report", rig.job(lambda: None, name="report").call(), schedule)
        rig.advance("1h")

    seen: set[str] = set()
    world = {"start": "2031-03-03T07:30", "zone": "Atlantic/Faroe"}
    found = ic.probe(story, starts=kind, rig=world, depth=0, orders=False)
    assert first is None or first in seen
    assert found.coverage.starts == (3 if first is None else 4) + 3 * (kind == "clock change") + (
        kind == "clock change"
    )


def test_a_start_that_breaks_a_law_is_replayed() -> None:
    def story(rig: ic.Rig) -> None:
        rig.schedule("close", rig.job(lambda: None, name="close").call(), ic.cron("30 1 * * *", gap="skip"))
        rig.advance("2d")

    law = ic.laws.holds("the till is closed every night", lambda world: len(world.of("close")) == 2)
    world = {"start": "2031-03-03T09:00", "zone": "Atlantic/Faroe"}
    (found,) = ic.probe(story, law, starts=True, rig=world, faults=[], orders=False)
    assert str(found.plan.start).startswith("2031-03-29")
    rig = ic.Rig(**world)  # type: ignore[arg-type]
    rig.replay(found.token)
    with rig:
        story(rig)
    assert rig.history.digest() == found.digest
    with pytest.raises(ic.BrokenLaw):
        rig.check(law)


def test_what_a_story_prints_does_not_fill_the_screen(capfd: pytest.CaptureFixture[str]) -> None:
    ic.probe(lambda rig: one_job(rig, lambda: print("hello")), depth=1)
    assert capfd.readouterr() == ("", "")


def test_check_raises_what_was_found() -> None:
    ic.probe(sound, LAWS, depth=1).check()
    with pytest.raises(ic.BrokenLaw, match="done 2 times") as caught:
        ic.probe(charges, LAWS, depth=1).check()
    assert [breach.law for breach in caught.value.breaches] == ["once_per_key"]


# --- what a finding shows -----------------------------------------------------------------------------


def ten_days(rig: ic.Rig) -> None:
    mail = rig.service(ic.services.Mail())

    def poll_buoy() -> None:
        with contextlib.suppress(ConnectionError):
            mail.send("harbour", "tide")

    def call() -> None:
        courier = threading.Thread(target=poll_buoy, name="courier")
        courier.start()
        courier.join()

    def sink() -> None:
        raise LookupError("no such buoy")

    rig.schedule("poll", rig.job(poll_buoy).call(), ic.every("6h"))
    rig.enqueue(rig.job(sink).call())
    rig.enqueue(rig.job(call).call(), after="1h")
    rig.advance("10d")


def test_a_long_story_is_cut_to_what_differs() -> None:
    law = ic.laws.holds(
        "41 letters are sent", lambda world: len(world.effects_of("mail.send")) == 41 and len(world) > 9
    )
    (found,) = ic.probe(ten_days, law, faults=["fail"], orders=False, runs=20, depth=1)
    assert found.moves == ("call-2, attempt 1, thread 1 (courier), before mail.send: an error",)
    text = str(found)
    assert "what differs from the run without it" in text
    assert len(text.splitlines()) < 30 < len(found.story.splitlines())
    lines = found.comparison.splitlines()
    (number,) = [number for number, line in enumerate(lines) if line.startswith(">")]
    without, with_it = (
        " ".join(line.split("|")[side].strip() for line in lines[number : number + 2]) for side in (0, 1)
    )
    assert "effect mail.send" in without
    assert "fails" not in without
    assert "fails: ServiceError" in with_it
    assert found.words == "it does not hold that 41 letters are sent (it read 40 effects mail.send)"
    assert found.proof.count("effect mail.send") == 3


def test_threads_are_told_by_name() -> None:
    passed = ic.probe(ten_days, runs=1).coverage.passed
    assert "call-2, attempt 1, thread 1 (courier), before mail.send" in passed


def test_jobs_that_fail_without_a_fault_are_told() -> None:
    found = ic.probe(ten_days, ic.laws.finishes_within("poll_buoy", "2h"), runs=3)
    assert "without a fault already: sink-1 is dead (LookupError: no such buoy)" in found.coverage.notes
    (hint,) = [note for note in found.coverage.notes if "allows" in note]
    assert hint == (
        "finishes_within allows 2h, and the longest delay that was tried is 10m: give slow=, delay= or outage= of about "
        "1h to come near it"
    )
    assert not [
        n
        for n in ic.probe(ten_days, ic.laws.finishes_within("poll_buoy", "15m"), runs=3).coverage.notes
        if "allows" in n
    ]


def test_a_story_that_cannot_be_compared_is_cut_in_the_middle() -> None:
    law = ic.laws.holds("nothing is sent", lambda world: not world.effects)
    (found,) = ic.probe(ten_days, law, runs=1)
    assert found.moves == ()
    assert "lines ..." in str(found)
    assert len(str(found).splitlines()) < 80


def test_a_story_without_laws_that_raises_is_a_finding() -> None:
    def story(rig: ic.Rig) -> None:
        one_job(rig, lambda: None)
        raise LookupError("no such sailing")

    (found,) = ic.probe(story, depth=1)
    assert (found.law, found.moves) == ("the story itself", ())
    assert found.words.startswith("LookupError: no such sailing")


def test_a_story_without_seams_is_told() -> None:
    assert "the story passes no seam: no fault was tried" in str(ic.probe(lambda rig: rig.advance("1h")))


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ({"laws": "nothing_lost"}, "the law is the text 'nothing_lost'; give a law, such as ic.laws.nothing_lost()"),
        ({"laws": 5}, "the law is 5; give ic.laws.once_per_key(...) or another law, or a function of the world"),
        ({"faults": 5}, "unknown kind of fault 5"), ({"faults": "outages"}, "did you mean 'outage'"),
        ({"seams": "file"}, "unknown kind of seam 'file'; did you mean 'files'"),
        ({"in_a_row": 1}, "in_a_row has 1; give numbers of failures, each at least 2"),
        ({"in_a_row": (3, "4")}, "in_a_row has '4'; give numbers of failures, each at least 2"),
        ({"outage": "long"}, "outage 'long' cannot be read"), ({"starts": "easter"}, "unknown start 'easter'"),
    ],
)  # fmt: skip
def test_options_that_cannot_be(options: dict[str, Any], message: str) -> None:
    with pytest.raises(ic.InputError, match=re.escape(message)):
        ic.probe(sound, **options)


def test_a_law_that_does_not_exist() -> None:
    with pytest.raises(AttributeError, match=r"there is no law 'nothing_lsot'; did you mean 'nothing_lost'"):
        ic.laws.nothing_lsot  # noqa: B018  # type: ignore[attr-defined]


def test_a_run_leaves_nothing_to_the_next() -> None:
    """Thousands of runs follow one another without a full collection, and a death looks at every object there is."""
    searched = SearchedStory(sound, tuple(LAWS), FaultModel())
    singles = [move for _, fitting in searched.run(Plan(), notes_seams=True).seams for move in fitting]

    def objects_after(count: int) -> int:
        for _ in Runner(searched).map(RunRequest(Plan((singles[n % len(singles)],))) for n in range(count)):
            pass
        return len(gc.get_objects())

    objects_after(len(singles))  # what is imported late is there then
    gc.collect()
    before = objects_after(60)
    assert objects_after(240) < before + 1_500


@pytest.mark.exhaustive
def test_a_search_leaves_no_line_on_stderr() -> None:
    """Dead workers leave event loops, coroutines, threads, files, sockets and transactions: nothing is said of them."""
    code = """
        import asyncio, gc, socket, sqlite3, tempfile, threading
        import ironclock as ic

        async def calls(mail):
            async with asyncio.timeout(60):
                await asyncio.gather(asyncio.sleep(1), asyncio.to_thread(mail.send, "ina", "a"))
                mail.send("jo", "b")

        def story(rig):
            mail = rig.service(ic.services.Mail())
            path = tempfile.mkdtemp()

            def runs_a_loop():
                asyncio.run(calls(mail))

            async def asynchronous():
                await calls(mail)

            def starts_threads():
                one = threading.Thread(target=mail.send, args=("ina", "c"))
                one.start()
                one.join()

            def opens_things():
                database = sqlite3.connect(f"{path}/a.db")
                database.execute("create table if not exists seats (n integer)")
                here, there = socket.socketpair()
                file = open(f"{path}/a.txt", "w")
                file.write("seat")
                mail.send("ina", "d")
                for one in (file, here, there, database):
                    one.close()

            rig.workers(4)
            for job in (runs_a_loop, asynchronous, starts_threads, opens_things):
                rig.enqueue(rig.job(job, retry=ic.Retry(3, "1s"), timeout="5m").call())
            rig.run_dry()

        ic.probe(story, seams=("files", "sql", "sockets"), runs=500)
        gc.collect()
        print("searched")
    """
    done = subprocess.run(
        [sys.executable, "-X", "dev", "-W", "always", "-c", textwrap.dedent(code)], capture_output=True, text=True
    )
    assert (done.stdout, done.stderr) == ("searched\n", "")


def test_a_worker_that_dies_leaves_what_it_holds_free() -> None:
    """A death that the probe placed kept the places of semaphores, and one that `faults.crash` placed did not."""

    def story(rig: ic.Rig) -> None:
        places = threading.Semaphore(1)

        def moor() -> None:
            with places:
                time.sleep(5)

        rig.workers(2)
        for _ in range(2):
            rig.enqueue(rig.job(moor).call())
        rig.advance("1h")

    found = ic.probe(story, ic.laws.nothing_lost(), faults=["crash"])
    assert not found, found
    assert found.coverage.tried >= 4


@pytest.mark.exhaustive
def test_a_run_that_never_ends_is_given_up_and_named() -> None:
    """The handler of the code swallows the error of the search too, again and again."""

    def story(rig: ic.Rig) -> None:
        mail = rig.service(ic.services.Mail())

        def work() -> None:
            while True:
                try:
                    mail.send("ada", "hello")
                except ConnectionError:
                    while True:
                        pass
                return

        rig.enqueue(rig.job(work).call())
        rig.run_dry()

    found = ic.probe(story, depth=1, faults=["fail"], orders=False, runs=20)
    assert found.coverage.given_up >= 1
    # An error on either side of the effect ends in the loop.
    assert re.search(
        "took too long, and was given up: work-1, attempt 1, (before|after) mail.send: an error", str(found)
    )
