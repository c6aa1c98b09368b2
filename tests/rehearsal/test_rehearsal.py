"""What a log would have been: known answers, the model for what a log cannot say, and what is refused."""

from __future__ import annotations

import asyncio
import json
import sys
from pathlib import Path
from types import ModuleType

import pytest
from ferry_logs import day, lives, rows, second, write_log

import ironclock as ic
from ironclock.rehearsal.rehearsal import Rehearsal
from ironclock.rehearsal.rehearsal_json import as_dict
from ironclock.rehearsal.rehearsal_page import page
from ironclock.rehearsal.rehearsal_report import assumed
from ironclock.rehearsal.rehearsed import CHANGES, Rehearsed

pytest_plugins = ["pytester"]
EXAMPLES = Path(__file__).parents[2] / "examples" / "rehearsal"
FRIDAY = EXAMPLES / "friday.csv"


def log_of(tmp_path: Path, *attempts: tuple[object, ...]) -> Path:
    """A small log; see `ferry_logs.rows`."""
    path = tmp_path / "log.csv"
    path.write_text("\n".join(rows(*attempts)), encoding="utf-8")
    return path


def only(rehearsal: Rehearsal) -> Rehearsed:
    """The only candidate of a rehearsal."""
    (candidate,) = rehearsal.candidates
    return candidate


def changed(candidate: Rehearsed) -> dict[str, list[str]]:
    """The ids of the jobs that differ, by how."""
    return {
        kind: [(change.after or change.before).id for change in changes]  # type: ignore[union-attr]
        for kind in CHANGES
        if (changes := candidate.changes(kind))
    }


# --- known answers ----------------------------------------------------------------------------------------

HIDDEN = [
    (ic.Retry(5, "30s"), ic.Retry(8, "2m")),
    (ic.Retry(8, "2m"), ic.Retry(5, "30s")),
    (ic.Retry(8, ic.exponential("10s", cap="10m")), ic.Retry(6, ic.linear("1m"))),
    (ic.Retry(4, "4m"), ic.Retry(9, ic.exponential("5s"))),
]


@pytest.mark.parametrize("seed", [1, pytest.param(2, marks=pytest.mark.exhaustive)])
@pytest.mark.parametrize(("old", "new"), HIDDEN, ids=str)
def test_the_jobs_that_differ_and_only_these(seed: int, old: ic.Retry, new: ic.Retry, tmp_path: Path) -> None:
    before, after = day(seed, old), day(seed, new)
    truth_before, truth = lives(before), lives(after)
    differ = {job for job, life in truth_before.items() if life != truth[job]}
    for log in (before, write_log(before, tmp_path / "day.csv")):
        candidate = only(ic.rehearse(log, policies={"submit_manifest": new}))
        found = {job for jobs in changed(candidate).values() for job in jobs}
        # Where an attempt starts when the outage can be over or not, the log cannot know the answer, and says so.
        assert found ^ differ <= candidate.unsure
        for kind, is_dead in (("dead", True), ("saved", False)):
            told = set(changed(candidate).get(kind, ()))
            real = {job for job in differ if (truth[job][0] == "dead") is is_dead}
            real = {job for job in real if (truth_before[job][0] == "dead") is not is_dead}
            assert told ^ real <= candidate.unsure


def test_the_same_policy_changes_nothing() -> None:
    candidate = only(ic.rehearse(day(1, HIDDEN[0][0]), policies={"submit_manifest": HIDDEN[0][0]}))
    assert changed(candidate) == {}
    assert candidate.comparison.same


def test_the_friday_that_averages_hide() -> None:
    rehearsal = ic.rehearse(FRIDAY, policies=[EXAMPLES / "brisk.toml", EXAMPLES / "patient.toml"], replications=4)
    brisk, patient = rehearsal["brisk"], rehearsal["patient"]
    for figure in ("median", "p95", "p99", "longest"):
        before, after = brisk.value(figure)
        assert after < before
    assert len(brisk.changes("dead")) == 7
    assert not patient.changes("dead")
    assert len(brisk.lost) == 7
    assert brisk.spread["dead"] == (6, 7)
    assert sorted(brisk.dead_in.values()) == [1, 4, 4, 4, 4, 4, 4]
    assert rehearsal.failing(["dead+", "p95+"]) == ["brisk: dead is 7, and was 0 (dead+)"]
    assert rehearsal.failing(["dead+7", "attempts+1%", "attempts+20"]) == [
        "brisk: attempts is 702, and was 687 (attempts+1%)",
        "patient: attempts is 708, and was 687 (attempts+1%)",
        "patient: attempts is 708, and was 687 (attempts+20)",
    ]
    (outage,) = rehearsal.outages
    assert (outage.error_name, list(outage.victims)) == ("ConnectionError", ["submit_manifest"])


# --- the model --------------------------------------------------------------------------------------------


def outage_log(tmp_path: Path) -> Path:
    """Jobs every ten seconds; those from 1,000 to 1,600 s fail, and are dead after a second attempt a minute later."""
    attempts: list[tuple[object, ...]] = []
    for number in range(300):
        at = number * 10
        job = f"j{number}"
        if not 1000 <= at <= 1600:
            attempts.append((job, "scan", at, at, at + 1, "done"))
            continue
        attempts.append((job, "scan", at, at, at + 2, "failed", "OfficeClosed: no"))
        again = at + 62
        if again <= 1602:
            attempts.append((job, "scan", at, again, again + 2, "dead", "OfficeClosed: no"))
        else:
            attempts.append((job, "scan", at, again, again + 1, "done"))
    return log_of(tmp_path, *attempts)


def test_a_failure_that_belongs_to_an_outage_ends_with_it(tmp_path: Path) -> None:
    rehearsal = ic.rehearse(outage_log(tmp_path), policies={"scan": ic.Retry(2, "15m")})
    assert [outage.error_name for outage in rehearsal.outages] == ["OfficeClosed"]
    candidate = only(rehearsal)
    assert candidate.value("dead") == (55.0, 0.0)
    assert len(candidate.changes("saved")) == 55
    assert candidate.run.drawn == 55


def test_an_attempt_in_an_outage_fails_although_the_log_has_none(tmp_path: Path) -> None:
    # With three attempts a second apart, those that failed once and were done would fail twice more.
    candidate = only(ic.rehearse(outage_log(tmp_path), policies={"scan": ic.Retry(3, "1s")}))
    assert candidate.value("dead")[1] >= 59
    dead = changed(candidate)["dead"]
    assert "j155" in dead
    assert "j170" not in dead


def test_other_failures_belong_to_the_job_and_come_in_order(tmp_path: Path) -> None:
    log = log_of(
        tmp_path,
        ("a", "scan", 0, 0, 1, "failed", "ValueError: one"), ("a", "scan", 0, 61, 64, "failed", "OSError: two"),
        ("a", "scan", 0, 124, 129, "done"), ("b", "scan", 200, 200, 201, "done"),
    )  # fmt: skip
    rehearsal = ic.rehearse(log, policies={"scan": ic.Retry(3, "5s")})
    run = only(rehearsal).run.by_number[0]
    start = run.enqueued_ns
    assert [((one.started_ns - start) // 10**9, one.outcome, one.error) for one in run.attempts] == [
        (0, "failed", "ValueError: one"), (6, "failed", "OSError: two"), (14, "done", ""),
    ]  # fmt: skip
    picky = only(ic.rehearse(log, policies={"scan": ic.Retry(3, "5s", never_on=OSError)})).run.by_number[0]
    assert (picky.state, len(picky.attempts)) == ("dead", 2)


def test_what_the_log_does_not_have_is_drawn_from_what_was_measured(tmp_path: Path) -> None:
    # Of 40 second attempts 10 were done: about a quarter of the third ones, which no log has, are done as well.
    attempts: list[tuple[object, ...]] = []
    for number in range(200):
        at = number * 100
        job = f"j{number}"
        if number % 5:
            attempts.append((job, "scan", at, at, at + 1, "done"))
            continue
        outcome = "done" if number % 20 == 0 else "dead"
        attempts.append((job, "scan", at, at, at + 1, "failed", "OSError: no"))
        attempts.append((job, "scan", at, at + 11, at + 12, outcome, "" if outcome == "done" else "OSError: no"))
    log = log_of(tmp_path, *attempts)
    candidate = only(ic.rehearse(log, policies={"scan": ic.Retry(3, "10s")}, replications=20))
    assert candidate.value("dead")[0] == 30
    low, high = candidate.spread["dead"]
    assert 12 <= low <= 22 <= high <= 29
    again = only(ic.rehearse(log, policies={"scan": ic.Retry(3, "10s")}, replications=20))
    assert (again.spread, again.dead_in) == (candidate.spread, candidate.dead_in)
    other = only(ic.rehearse(log, policies={"scan": ic.Retry(3, "10s")}, seed=1))
    assert changed(other) != changed(candidate)


def test_candidates_meet_the_same_luck(tmp_path: Path) -> None:
    first = only(ic.rehearse(outage_log(tmp_path), policies={"scan": ic.Retry(9, "90s")}))
    second_one = only(ic.rehearse(outage_log(tmp_path), policies={"scan": ic.Retry(10, "90s")}))

    def ends(candidate: Rehearsed) -> list[list[tuple[str, str]]]:
        return [[(one.outcome, one.error) for one in job.attempts] for job in candidate.run.jobs]

    assert ends(first) == ends(second_one)


def test_what_one_job_meets_alone_is_not_an_outage(tmp_path: Path) -> None:
    attempts: list[tuple[object, ...]] = [(f"j{n}", "scan", n * 100, n * 100, n * 100 + 1, "done") for n in range(60)]
    attempts += [
        ("odd", "scan", 3010, at, at + 1, "dead" if at == 3070 else "failed", "ValueError: odd")
        for at in (3010, 3020, 3030, 3040, 3050, 3060, 3070)
    ]
    rehearsal = ic.rehearse(log_of(tmp_path, *attempts), policies={"scan": ic.Retry(7, "15m")})
    assert rehearsal.outages == []
    assert changed(only(rehearsal)) == {"moved": ["odd"]}


def test_a_log_can_end_in_an_outage(tmp_path: Path) -> None:
    attempts: list[tuple[object, ...]] = []
    for number in range(100):
        at = number * 10
        outcome = "done" if at < 900 else "dead"
        attempts.append((f"j{number}", "scan", at, at, at + 1, outcome, "" if at < 900 else "OfficeClosed: no"))
    candidate = only(rehearsal := ic.rehearse(log_of(tmp_path, *attempts), policies={"scan": ic.Retry(2, "10m")}))
    (outage,) = rehearsal.outages
    assert outage.is_open
    # Nobody knows what they would have met after the end of the log: all of them are marked.
    assert len(candidate.unsure) == 10


def test_another_error_in_an_outage_belongs_to_its_job(tmp_path: Path) -> None:
    attempts: list[tuple[object, ...]] = []
    for number in range(200):
        at = number * 10
        is_down = 1000 <= at <= 1300
        error = "ValueError: odd" if number == 110 else "OfficeClosed: no" if is_down else ""
        attempts.append((f"j{number}", "scan", at, at, at + 1, "dead" if error else "done", error))
    candidate = only(ic.rehearse(log_of(tmp_path, *attempts), policies={"scan": ic.Retry(2, "1h")}))
    life = candidate.run.by_number[110]
    assert life.attempts[0].error == "ValueError: odd"


@pytest.mark.parametrize("policy", [1, ic.Retry(1), ic.Policy(retry=1)])
def test_one_attempt_is_a_policy_as_well(policy: ic.Policy | ic.Retry | int, tmp_path: Path) -> None:
    log = log_of(tmp_path, ("a", "scan", 0, 0, 1, "failed", "OSError: no"), ("a", "scan", 0, 9, 10, "done"))
    assert changed(only(ic.rehearse(log, policies={"scan": policy}))) == {"dead": ["a"]}


def test_an_attempt_without_an_end_holds_its_worker_as_long_as_in_the_log(tmp_path: Path) -> None:
    begun = 1_932_454_800
    events = [
        ("a", "enqueued", 0), ("a", "started", 0), ("b", "enqueued", 5), ("c", "enqueued", 6), ("b", "started", 30),
        ("b", "done", 40), ("c", "started", 40), ("c", "done", 50),
    ]  # fmt: skip
    rows = "".join(f"{job},scan,{what},{begun + at},w1\n" for job, what, at in events)
    (tmp_path / "events.csv").write_text(f"job,name,event,time,worker\n{rows}")
    rehearsal = ic.rehearse(tmp_path / "events.csv", workers=2)
    assert rehearsal.fidelity.share == 1.0
    assert only(rehearsal).value("open") == (1.0, 1.0)
    assert changed(only(rehearsal)) == {"earlier": ["b", "c"]}


def test_services_that_fail_together_are_one_outage(tmp_path: Path) -> None:
    attempts: list[tuple[object, ...]] = []
    for number in range(400):
        at, name = number * 10, "manifest" if number % 2 else "weather"
        is_down = 1500 <= at <= 2200
        attempts.append((f"j{number}", name, at, at, at + 1, "failed" if is_down else "done",
                         "OfficeClosed: no" if is_down else ""))  # fmt: skip
    # Too few to see anything, had it not been down at that time.
    attempts += [("p1", "parking", 1700, 1700, 1701, "failed", "OfficeClosed: no"),
                 ("p2", "parking", 3000, 3000, 3001, "done")]  # fmt: skip
    (outage,) = ic.rehearse(log_of(tmp_path, *attempts)).outages
    assert sorted(outage.victims) == ["manifest", "parking", "weather"]
    assert {name: victims.share for name, victims in outage.victims.items()} == dict.fromkeys(outage.victims, 1.0)


def test_a_timeout_can_be_shorter(tmp_path: Path) -> None:
    log = log_of(tmp_path, ("a", "scan", 0, 0, 4, "done"), ("b", "scan", 10, 10, 40, "done"))
    candidate = only(ic.rehearse(log, policies={"scan": ic.Policy(timeout="5s")}))
    assert changed(candidate) == {"dead": ["b"]}


# --- other workers, queues, schedules ---------------------------------------------------------------------


def burst(tmp_path: Path) -> Path:
    """Ten jobs at once that one worker takes one after the other."""
    return log_of(tmp_path, *((f"j{n}", "scan", 0, 6 * n, 6 * n + 6, "done", "", "w1") for n in range(10)))


def test_more_workers_end_a_backlog_earlier(tmp_path: Path) -> None:
    rehearsal = ic.rehearse(burst(tmp_path), workers=2)
    candidate = only(rehearsal)
    assert candidate.name == "2 workers"
    assert candidate.value("backlog") == (9.0, 8.0)
    assert candidate.value("longest") == (60.0, 30.0)
    assert len(candidate.changes("earlier")) == 9


def test_a_file_can_change_queues_workers_and_schedules(tmp_path: Path) -> None:
    file = tmp_path / "two.toml"
    file.write_text(
        '[workers]\ncount = 5\n[queues.default]\nrunning = 2\n[policies.soon]\nretry = { attempts = 2 }\n'
        '[jobs.scan]\npolicy = "soon"\n', encoding="utf-8",
    )  # fmt: skip
    assert only(ic.rehearse(burst(tmp_path), policies=file)).value("longest") == (60.0, 30.0)
    file.write_text('[schedules.scan]\njob = "scan"\nevery = "20s"\n', encoding="utf-8")
    candidate = only(ic.rehearse(burst(tmp_path), policies=str(file)))
    # The log ends after a minute: three firings, and none of the jobs of the log.
    assert candidate.value("jobs") == (10.0, 3.0)
    assert [job.id for job in candidate.run.new] == ["scan-new-1", "scan-new-2", "scan-new-3"]
    assert candidate.run.new[0].attempts[0].ended_ns == candidate.run.new[0].attempts[0].started_ns + 6 * 10**9


def test_a_unique_job_is_refused(tmp_path: Path) -> None:
    log = log_of(
        tmp_path,
        ("a", "scan", 0, 0, 100, "done", "", "", "", "TL-1"), ("b", "scan", 10, 100, 110, "done", "", "", "", "TL-2"),
        ("c", "scan", 11, 110, 120, "done", "", "", "", "TL-2"),
    )  # fmt: skip
    for unique in ("refuse", "keep"):
        candidate = only(ic.rehearse(log, policies={"scan": ic.Policy(unique=unique)}))
        assert candidate.value("refused") == (0.0, 1.0)
        assert candidate.value("jobs") == (3.0, 2.0)
        assert changed(candidate) == {"otherwise": ["c"]}


# --- parts of a log ---------------------------------------------------------------------------------------


def test_a_part_of_a_log(tmp_path: Path) -> None:
    log = outage_log(tmp_path)
    assert ic.rehearse(log, since=second(500), until=second(600)).fidelity.jobs == 10
    with pytest.raises(ic.InputError, match="no job of the log is left to rehearse"):
        ic.rehearse(log, since=second(9999))
    friday = ic.rehearse(FRIDAY, only=["send_ticket", "release_hold"])
    assert {job.name for job in friday.recording.jobs} == {"send_ticket", "release_hold"}
    with pytest.raises(ic.InputError, match="the log has no job 'send_tickets'; did you mean 'send_ticket'"):
        ic.rehearse(FRIDAY, only=["send_tickets"])


def test_a_sample_has_a_share_of_each_type() -> None:
    whole, sample = (ic.rehearse(FRIDAY, sample=share, policies=EXAMPLES / "brisk.toml") for share in (1.0, 0.25))

    def counts(rehearsal: Rehearsal) -> dict[str, int]:
        names = [job.name for job in rehearsal.recording.jobs]
        return {name: names.count(name) for name in sorted(set(names))}

    for name, count in counts(whole).items():
        assert counts(sample)[name] == pytest.approx(count / 4, abs=1)
    assert sample.fidelity.share == 1.0
    assert 1 <= len(only(sample).changes("dead")) <= 3


# --- real code --------------------------------------------------------------------------------------------


def paid_log(tmp_path: Path) -> Path:
    return log_of(
        tmp_path,
        ("a", "charge", 0, 0, 1, "failed", "BankDown: no", "w1", "", "B-1"),
        ("a", "charge", 0, 31, 32, "done", "", "w1", "pay", "B-1"),
        ("b", "charge", 5, 5, 6, "done", "", "w1", "pay", "B-2"),
    )  # fmt: skip


class Bank:
    """What the code calls."""

    def pay(self, booking: str) -> str:
        raise AssertionError("the real bank was called")


BANK = Bank()


class BankDown(Exception):
    """The error that the log names."""


def charge(booking: str) -> str:
    try:
        return BANK.pay(booking)
    except BankDown:
        return "later"


def prepare(rig: ic.Rig) -> None:
    rig.effect("pay", f"{__name__}:Bank.pay", key="booking", answers=lambda self, booking: f"receipt of {booking}")


BOTH = {"args": "key", "key": "key"}
PLACES = {
    "start": ([], 3, {"B-1": 1, "B-2": 1}),
    "end": (["pay of 'B-1'"], 3, {"B-1": 2, "B-2": 1}),
    "before pay": ([], 2, {"B-2": 1}),  # the code catches the error, and never pays
    "after pay": ([], 2, {"B-1": 1, "B-2": 1}),
}


@pytest.mark.parametrize("place", PLACES)
def test_real_code_meets_the_failures_of_the_log(place: str, tmp_path: Path) -> None:
    twice, attempts, paid = PLACES[place]
    rehearsal = ic.rehearse(
        paid_log(tmp_path), jobs={"charge": charge}, setup=prepare, columns=BOTH, fails_at={"charge": place}
    )
    assert rehearsal.fidelity.share == 1.0
    candidate = only(rehearsal)
    assert list(candidate.twice) == twice
    assert candidate.after["attempts"] == attempts
    history = candidate.run.history
    found: dict[str, int] = {}
    for number in history.effects_done():
        key = history.entry(number).key
        found[key] = found.get(key, 0) + 1
    assert found == paid
    assert list(candidate.lost) == (["pay of 'B-1'"] if place == "before pay" else [])


def test_real_code_can_fail_by_itself(tmp_path: Path) -> None:
    def fragile(booking: str) -> None:
        if booking == "B-2":
            raise KeyError(booking)

    candidate = only(ic.rehearse(paid_log(tmp_path), jobs={"charge": fragile}, columns={"args": "key"}))
    (change,) = candidate.changes("dead")
    assert change.job == "b charge"
    assert change.after is not None
    assert change.after.error == "KeyError: 'B-2'"


def test_async_code_is_run(tmp_path: Path) -> None:
    seen = []

    async def slow(booking: str) -> None:
        await asyncio.sleep(2)
        seen.append(booking)

    for place in ("start", "end"):
        seen.clear()
        rehearsal = ic.rehearse(
            paid_log(tmp_path), jobs={"charge": slow}, columns={"args": "key"}, fails_at={"charge": place}
        )
        assert sorted(seen) == (["B-1", "B-2"] if place == "start" else ["B-1", "B-1", "B-2"])
        assert only(rehearsal).value("longest") == (32.0, 34.0 if place == "start" else 36.0)


def put(job: str, booking: str) -> None:
    raise AssertionError("the real queue was called")


def charge_and_print(booking: str) -> None:
    put("ticket", booking)


def test_code_that_enqueues_takes_the_place_of_the_log(tmp_path: Path) -> None:
    log = log_of(
        tmp_path, ("a", "charge", 0, 0, 1, "done", "", "w1", "", "B-1"), ("t", "ticket", 1, 1, 3, "done", "", "w1")
    )

    def tapped(rig: ic.Rig) -> None:
        rig.tap(f"{__name__}:put", reads=ic.reading(job=0, args=slice(1, None)))

    told = {"jobs": {"charge": charge_and_print}, "setup": tapped, "columns": BOTH}
    both = only(ic.rehearse(log, **told))  # type: ignore[arg-type]
    assert both.value("jobs") == (2.0, 3.0)
    assert "1 ticket come from the code, and from the log as well" in assumed(both)
    candidate = only(ic.rehearse(log, from_code=["ticket"], **told))  # type: ignore[arg-type]
    assert candidate.value("jobs") == (2.0, 2.0)
    (ticket,) = candidate.run.new
    assert (ticket.name, ticket.attempts[0].ended_ns - ticket.attempts[0].started_ns) == ("ticket", 2 * 10**9)


def test_arguments_are_read_or_the_error_says_how(tmp_path: Path) -> None:
    log = paid_log(tmp_path)
    with pytest.raises(
        ic.InputError, match=r"charge\(booking: 'str'\) -> 'str' does not take what the log has: a has no"
    ):
        ic.rehearse(log, jobs={"charge": charge})
    seen = []
    ic.rehearse(
        log, jobs={"charge": lambda **named: seen.append(named)}, columns={"args": "key"},
        read_args=lambda text: {"booking": text},
    )  # fmt: skip
    assert seen == [{"booking": "B-2"}, {"booking": "B-1"}]
    module = ModuleType("app_jobs")
    with pytest.raises(ic.InputError, match="app_jobs has no function for a job of the log; jobs: charge"):
        ic.rehearse(log, jobs=module)
    module.charge = lambda booking: seen.append(booking)  # type: ignore[attr-defined]
    assert only(ic.rehearse(log, jobs=module, columns={"args": "key"})).name == "app_jobs"
    assert seen[2:] == ["B-2", "B-1"]


def test_the_example_charges_twice(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.syspath_prepend(str(EXAMPLES))
    import ferry_jobs

    rehearsal = ic.rehearse(
        FRIDAY, jobs=ferry_jobs, setup=ferry_jobs.prepare, fails_at={"charge_fare": "after charge"},
        laws=[ic.laws.once_per_key("charge")],
    )  # fmt: skip
    candidate = only(rehearsal)
    assert len(candidate.twice) == 18
    assert candidate.newly_broken == ["once_per_key('charge')"]
    assert rehearsal.failing(["laws+"]) == ["ferry_jobs: laws is 1, and was 0 (laws+)"]
    sys.modules.pop("ferry_jobs", None)


# --- what is shown, and what is refused -------------------------------------------------------------------


def test_a_story_tells_both() -> None:
    rehearsal = ic.rehearse(FRIDAY, policies=EXAMPLES / "brisk.toml")
    told = rehearsal.story("j0356")
    assert told.startswith("the log: j0356\n")
    assert "brisk: j0356\n" in told
    assert told.count("ConnectionError: the harbour office is down") == 14
    with pytest.raises(ic.InputError, match="there is no job 'j0357x' in the rehearsal; did you mean 'j0357'"):
        rehearsal.story("j0357x")


@pytest.mark.parametrize("redact", [True, "a secret"])
def test_redaction_hides_all_that_is_personal(redact: bool | str, tmp_path: Path) -> None:
    log = log_of(
        tmp_path,
        ("a", "charge", 0, 0, 1, "dead", "BankDown: card of Una", "w1", "", "Una"),
        ("b", "charge", 5, 5, 6, "done", "", "w1", "pay", "Una"),
        ("c", "charge", 9, 9, 10, "done", "", "w1", "pay", "Una"),
    )  # fmt: skip
    rehearsal = ic.rehearse(log, policies={"charge": ic.Retry(2)}, columns=BOTH, redact=redact)
    candidate = only(rehearsal)
    shown = json.dumps(as_dict(rehearsal)) + page(rehearsal, "log", True) + "".join(map(rehearsal.story, "abc"))
    assert "Una" not in shown
    assert "BankDown" in shown
    keys = {entry.data["key"] for entry in candidate.run.history if entry.what == "enqueued"}
    assert len(keys) == 1
    if redact == "a secret":
        again = ic.rehearse(log, columns=BOTH, redact=redact)
        assert {entry.data["key"] for entry in again.as_logged.history if entry.what == "enqueued"} == keys


def test_the_page_shows_no_arguments_unless_asked() -> None:
    rehearsal = ic.rehearse(FRIDAY, policies=EXAMPLES / "brisk.toml")
    hidden, shown = page(rehearsal, "friday.csv"), page(rehearsal, "friday.csv", True)
    assert "TL-556" in shown
    assert "TL-556" not in hidden
    assert "the harbour office is down" not in hidden
    assert "7 jobs that are not done any more are not in them" in hidden
    assert "http" not in hidden.replace("http-equiv", "")


def test_as_json_it_is_the_same_each_time() -> None:
    told = [
        json.dumps(as_dict(ic.rehearse(FRIDAY, policies=EXAMPLES / "brisk.toml", replications=3))) for _ in range(2)
    ]
    assert told[0] == told[1]
    made = json.loads(told[0])
    assert made["format"] == "ironclock-rehearsal"
    assert made["fidelity"]["share"] == 1.0
    assert made["candidates"][0]["figures"]["dead"] == [0, 7]
    assert [change["job"] for change in made["candidates"][0]["changes"]["dead"]][:2] == ["j0356", "j0359"]


def test_several_files_of_one_name_are_told_apart(tmp_path: Path) -> None:
    paths = []
    for folder in ("a", "b"):
        (tmp_path / folder).mkdir()
        paths.append(tmp_path / folder / "new.toml")
        paths[-1].write_text("[jobs.send_ticket]\nretry = { attempts = 1 }\n", encoding="utf-8")
    assert [one.name for one in ic.rehearse(FRIDAY, policies=paths).candidates] == [str(path) for path in paths]


TOML = {
    "[jobs.send_tickets]\nretry = { attempts = 2 }\n": "new.toml:1:1: the log has no job 'send_tickets'; did you mean",
    "[jobs.send_ticket]\ntakes = '2s'\n": "new.toml:2:1: jobs.send_ticket has no key 'takes'",
    "[policies.calm]\nretry = { attempts = 2 }\n": "no job has the policy 'calm'; write [jobs.NAME] with policy = 'calm'",
    "[jobs.send_ticket]\npolicy = 'calm'\n": "the file has no policy 'calm'",
    "[jobs.send_ticket]\nretry = { attempts = 0 }\n": "attempts is 0",
    "[arrivals]\njob = 'x'\n": "the file has no key 'arrivals'",
    "[schedules.x]\njob = 'send_tickets'\nevery = '1m'\n": "the log has no job 'send_tickets'",
    "jobs = [": "the file is not TOML",
}


@pytest.mark.parametrize(("text", "words"), TOML.items(), ids=range(len(TOML)))
def test_a_file_that_cannot_be_meant_says_why(text: str, words: str, tmp_path: Path) -> None:
    (tmp_path / "new.toml").write_text(text, encoding="utf-8")
    with pytest.raises(ic.ScenarioError) as error:
        ic.rehearse(FRIDAY, policies=tmp_path / "new.toml")
    assert words in str(error.value)


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"workers": 0}, "workers is 0; give how many there are, at least 1"),
        ({"replications": 0}, "replications is 0; give a whole number, at least 1"),
        ({"sample": 0}, "sample is 0; give a share above 0 and at most 1"),
        ({"policies": {"send_ticket": "often"}}, "the policy of send_ticket is 'often'; give an ic.Policy"),
        ({"policies": {"send_tickets": 2}}, "the log has no job 'send_tickets'; did you mean 'send_ticket'"),
        ({"jobs": {"send_tickets": print}}, "the log has no job 'send_tickets'; did you mean 'send_ticket'"),
        ({"jobs": {"send_ticket": 3}}, "the code of send_ticket is 3, which cannot be called; give a function"),
        ({"jobs": {"send_ticket": print}, "fails_at": {"send_ticket": "middle"}}, "are to fail at 'middle'; give"),
        ({"jobs": {"send_ticket": print}, "from_code": ["x"]}, "the log has no job 'x'"),
        ({"policies": {"send_ticket": 2}, "fails_at": {"send_ticket": "end"}}, "and no code is given for send_ticket"),
        ({"workers": 1, "setup": lambda rig: 1 / 0}, "the setup raised ZeroDivisionError: division by zero"),
        ({"jobs": {"send_ticket": print}, "read_args": int}, "cannot be read: ValueError: invalid literal for int()"),
        ({"since": "soon"}, "since 'soon' is not ISO 8601"),
    ],
    ids=range(13),
)
def test_what_is_wrong_is_said(given: dict[str, object], words: str) -> None:
    with pytest.raises(ic.IronClockError) as error:
        ic.rehearse(FRIDAY, **given)  # type: ignore[arg-type]
    assert words in str(error.value)


def test_an_unknown_keyword_or_condition_is_said() -> None:
    with pytest.raises(TypeError, match="unknown keyword 'colums'; did you mean 'columns'"):
        ic.rehearse(FRIDAY, colums={})  # type: ignore[call-arg]
    rehearsal = ic.rehearse(FRIDAY)
    with pytest.raises(ic.InputError, match="there is no figure 'deed'; did you mean 'dead'"):
        rehearsal.failing(["deed+"])
    for text in ("dead", "dead+%", "dead+5x"):
        with pytest.raises(ic.InputError, match="the condition is '" + text.replace("+", r"\+")):
            rehearsal.failing([text])
    with pytest.raises(ic.InputError, match="there is no candidate 'brisk'"):
        rehearsal["brisk"]
    with pytest.raises(ic.InputError, match="the kind of change is 'died'"):
        only(ic.rehearse(FRIDAY, workers=3)).changes("died")


def test_the_rigs_of_a_rehearsal_are_no_part_of_the_test(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        f"""
        import ironclock as ic

        def test_it():
            assert ic.rehearse({str(FRIDAY)!r}, workers=2).failing(["dead+"]) == []
        """
    )
    for option in ("--ironclock-search", "--ironclock-notice", "--ironclock-seams"):
        result = pytester.runpytest_inprocess(option, "-n0", "-p", "no:cacheprovider")
        result.assert_outcomes(passed=1)
        result.stdout.re_match_lines([".*(none that has passed uses a rig|no test has run a job in a rig)"])
