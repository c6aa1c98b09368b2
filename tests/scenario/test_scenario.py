"""Scenario files: read, run, held against what they expect, and what is said of those that cannot be used."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import ironclock as ic
from ironclock.scenario.toml_places import places
from ironclock.simulation.jobs import live_job

EXAMPLES = Path(__file__).parents[2] / "examples" / "scenarios"
POLLS = """
start = "2031-03-29T21:00"
zone = "Atlantic/Faroe"

[workers]
count = 2

[jobs.poll_buoy]
takes = "3s"
retry = { attempts = 3, wait = "20s" }

[[enqueue]]
job = "poll_buoy"
count = 4
every = "1m"
"""


def test_the_example_runs_as_it_expects() -> None:
    ran = ic.Scenario.load(EXAMPLES / "harbour_outage.toml").run()
    assert [(o.met, o.found) for o in ran.outcomes] == [(True, "")] * 4
    ran.check()
    assert ran.met
    manifest = ran.rig.jobs("submit_manifest").one()
    assert manifest.attempts_made > 2, "real code, under a fault, tried again"


def test_the_same_file_and_seed_give_the_same_history() -> None:
    scenario = ic.Scenario.load(EXAMPLES / "harbour_outage.toml")
    digests = {scenario.run().history.digest() for _ in range(2)}
    assert len(digests) == 1
    assert scenario.run(seed=12).history.digest() not in digests


def test_every_example_fits_the_published_schema() -> None:
    from jsonschema import Draft202012Validator

    Draft202012Validator.check_schema(ic.Scenario.schema())
    for path in EXAMPLES.glob("*.toml"):
        assert ic.Scenario.load(path).title


def test_jobs_are_enqueued_apart_and_modelled_time_is_spent() -> None:
    ran = ic.Scenario.loads(POLLS).run()
    starts = [job.attempts[0].started_at.isoformat() for job in ran.rig.jobs()]
    assert starts == [f"2031-03-29T21:0{n}:00+00:00" for n in range(4)]
    assert {(a.ended_at - a.started_at).total_seconds() for job in ran.rig.jobs() for a in job.attempts} == {3.0}


@pytest.mark.parametrize(
    ("takes", "low", "high"),
    [
        ('{ from = "1s", to = "3s" }', 1, 3), ('{ median = "2s", p95 = "9s" }', 0, 120), ('{ mean = "4s" }', 0, 120),
        ('{ measured = ["1s", "2s", "5s"] }', 1, 5),
    ],
)  # fmt: skip
def test_durations_are_drawn_from_their_spread(takes: str, low: float, high: float) -> None:
    text = POLLS.replace('takes = "3s"', f"takes = {takes}").replace("count = 4", "count = 400")
    ran = ic.Scenario.loads(text).run()
    took = [(a.ended_at - a.started_at).total_seconds() for job in ran.rig.jobs() for a in job.attempts]
    assert low <= min(took) < max(took) <= high
    assert len(set(took)) > 300


def test_modelled_jobs_fail_as_often_as_they_are_said_to() -> None:
    text = POLLS.replace('takes = "3s"', 'takes = "1s"\nfails = { share = 0.25, error = "TimeoutError: no answer" }')
    ran = ic.Scenario.loads(text.replace("count = 4", "count = 2000")).run()
    tries = [a for job in ran.rig.jobs() for a in job.attempts]
    failed = [a for a in tries if a.outcome == "failed"]
    assert 0.22 < len(failed) / len(tries) < 0.28
    assert {type(a.error) for a in failed} == {TimeoutError}


def test_arrivals_come_at_their_rate_and_by_time_of_day() -> None:
    text = POLLS.split("[[enqueue]]")[0] + (
        '[[arrivals]]\njob = "poll_buoy"\ncurve = [["21:00", "600/h"], ["22:00", "60/h"]]\n'
    )
    ran = ic.Scenario.loads('run = "2h"\n' + text).run(seed=5)
    first = [job for job in ran.rig.jobs() if job.enqueued_at.hour == 21]
    second = [job for job in ran.rig.jobs() if job.enqueued_at.hour == 22]
    assert 530 < len(first) < 670
    assert 35 < len(second) < 90
    assert len(ic.Scenario.loads('run = "2h"\n' + text).run(seed=5, load=3).rig.jobs()) > 1500


def expect(words: str, more: str = "", before: str = "") -> list[tuple[bool, str]]:
    ran = ic.Scenario.loads(f"{before}{POLLS}{more}\n[[expect]]\n{words}\n").run()
    return [(o.met, o.found) for o in ran.outcomes]


FAILS = '[[faults]]\nkind = "fail"\njob = "poll_buoy"\nbetween = ["2031-03-29T21:01", "2031-03-29T21:02"]\n'


@pytest.mark.parametrize(
    ("words", "more", "found"),
    [
        ('job = "poll_buoy"\nstate = "done"', "", ""),
        ('job = "poll_buoy"\nstate = "done"\ncount = 4', "", ""),
        ('job = "poll_buoy"\nstate = "dead"\ncount = 0', "", ""),
        ('job = "poll_buoy"\ncount = { at_least = 5 }', "", "there are 4"),
        ('job = "poll_buoy"\nstate = "done"', FAILS, "1 of 4 are not: 1 dead, 3 done"),
        ('job = "poll_buoy"\nstate = "dead"\nattempts = 3\nerror = "ConnectionError"\ncount = 1', FAILS, ""),
        ('job = "poll_buoy"\nattempts = { at_most = 2 }', FAILS, "poll_buoy-2 has had 3 attempts"),
        ('job = "poll_buoy"\nby = "2031-03-29T21:02"', "", "poll_buoy-3 ended at 2031-03-29T21:02:03+00:00, poll_buoy-4"),
        ('job = "poll_buoy"\nwithin = "3s"', "", ""),
        ('job = "poll_buoy"\nwithin = "2s"', "", "took 3s"),
        ('job = "poll_buoy"\nresult = 7', "", "poll_buoy-1 returned None"),
        ('law = "attempts_at_most"\nwith = ["poll_buoy", 2]', FAILS, "poll_buoy-2"),
        ('law = "nothing_lost"', "", ""),
    ],
)  # fmt: skip
def test_expectations(words: str, more: str, found: str) -> None:
    ((met, seen),) = expect(words, more)
    assert met is (not found)
    assert found in seen


def test_an_expectation_of_an_unknown_queue_is_an_error_of_the_file() -> None:
    with pytest.raises(ic.ScenarioError, match=r"\d+:1: no job and no worker has the queue 'harbour'; known: default"):
        expect('queue = "harbour"', "")


@pytest.mark.parametrize(
    ("fault", "holds"),
    [
        ('kind = "fail"\njob = "poll_buoy"\nattempts = 1\nerror = "tern_line.outside:CardRefused: no"', "CardRefused: no"),
        ('kind = "fail"\njob = "poll_buoy"\nattempts = 1\ntakes = "10s"', "attempt 2 starts"),
        ('kind = "slow"\njob = "poll_buoy"\nby = "1h"', "22:00:03"),
        ('kind = "crash"\njob = "poll_buoy"\nattempts = 1\ndown = "5s"', "its worker dies"),
        ('kind = "lose_ack"\nattempts = 1', "acknowledgement of attempt 1 is lost"),
        ('kind = "deliver_twice"\nattempts = [1]', "a second time"),
        ('kind = "delay"\nby = "30s"', "21:00:30"),
        ('kind = "refuse_enqueue"\nattempts = 2', "refused"),
        ('kind = "outage"\nbetween = ["2031-03-29T21:01", "2031-03-29T21:03"]', "the queue server is down"),
        ('kind = "away"\nbetween = ["2031-03-29T21:00", "2031-03-29T21:30"]', "21:30:00"),
        ('kind = "jump_clock"\nby = "-5m"\nat = "2031-03-29T21:01"', "the wall clock jumps by -5m"),
    ],
)  # fmt: skip
def test_every_kind_of_fault(fault: str, holds: str) -> None:
    ran = ic.Scenario.loads(f"{POLLS}[[faults]]\n{fault}\n").run()
    assert not ran.stopped
    assert holds in ran.history.story()


def test_a_failure_that_takes_time_keeps_its_worker_that_long() -> None:
    ran = ic.Scenario.loads(f'{POLLS}[[faults]]\nkind = "fail"\njob = "poll_buoy"\nattempts = 1\ntakes = "10s"\n').run()
    attempt = ran.rig.jobs("poll_buoy")[0].attempts[0]
    assert (attempt.ended_at - attempt.started_at).total_seconds() == 10
    with pytest.raises(ic.InputError, match="for a failure at the start"):
        ic.Rig().faults.fail(takes="1s", at="sleep")


def test_schedules_flows_queues_and_policies() -> None:
    ran = ic.Scenario.loads(
        """
        start = "2031-03-29T21:00"
        run = "1h"
        [[workers]]
        count = 1
        queues = ["desk"]
        [[workers]]
        count = 2
        queues = { harbour = 2, payments = 1 }
        [queues.harbour]
        running = 1
        rate = "30/m"
        [policies.steady]
        queue = "harbour"
        retry = { attempts = 2, wait = ["5s"], on = ["ConnectionError"] }
        [jobs.poll_buoy]
        policy = "steady"
        takes = "1s"
        [jobs.close_till]
        queue = "desk"
        [jobs.tide_table]
        queue = "desk"
        [schedules.buoy]
        job = "poll_buoy"
        every = "10m"
        [schedules.till]
        job = "close_till"
        cron = "30 21 * * *"
        count = 3
        [[flows.evening]]
        job = "tide_table"
        [[flows.evening]]
        step = "then"
        job = "close_till"
        after = "tide_table"
        """
    ).run()
    assert len(ran.rig.jobs("poll_buoy", queue="harbour")) == 6
    assert live_job(ran.rig.jobs("poll_buoy")[0]).type.retry.attempts == 2
    assert len(ran.rig.jobs("close_till")) == 3 + 1


def wrong(text: str) -> str:
    with pytest.raises(ic.ScenarioError) as found:
        ic.Scenario.loads(text).run()
    return str(found.value)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("[jobs.a\n", "scenario.toml: the file is not TOML"),
        ("[jobs.a]\ntakes = = 3", "at line 2, column 9"),
        ("title = 'x'\n", "scenario.toml:1:1: the file needs jobs"),
        ("[jobs.a]\nqueu = 'x'\n", "scenario.toml:2:1: jobs.a has no key 'queu'; did you mean 'queue'?"),
        ("[jobs.a]\nretry = { attempts = 0 }\n", "scenario.toml:2:11: jobs.a.retry.attempts is 0"),
        ("[jobs.a]\ntakes = { median = '1s' }\n", "scenario.toml:2:1: jobs.a.takes needs p95"),
        ("[jobs.a]\ntakes = { median = '9s', p95 = '1s' }\n", "p95 is 1s, which must be above median, 9s"),
        ("[jobs.a]\ntakes = '3 parsecs'\n", "takes '3 parsecs' cannot be read at '3 parsecs'"),
        ("[jobs.a]\npolicy = 'b'\n[policies.c]\n", "scenario.toml:2:1: the file has no policy 'b'; known: c"),
        ("[jobs.a]\ncall = 'tern_line.bookin:pay'\n", "tern_line has: did you mean 'booking'?"),
        ("[jobs.a]\ncall = 'tern_line.booking:pai'\n", "tern_line.booking has no 'pai'; did you mean 'pay'?"),
        ("[jobs.a]\ncall = 'tern_line.booking:HOLD'\n", "is int, which cannot be called"),
        ("[jobs.a]\ncall = 'tern_line.booking:pay'\nfails = 0.1\n", "scenario.toml:3:1: a is a real callable"),
        ("[jobs.a]\n[[enqueue]]\njob = 'b'\n", "scenario.toml:3:1: the file has no job 'b'; known: a"),
        ("[jobs.a]\n[[enqueue]]\njob = 'a'\nafter = '1s'\nat = '2031-03-03T09:00'\n", "after and at are given; give one of the two"),
        ("[jobs.a]\n[[enqueue]]\njob = 'a'\nat = '2030-01-01'\n", "before the start"),
        ("[jobs.a]\n[schedules.s]\njob = 'a'\n", "scenario.toml:2:1: the schedule has no kind; give one of cron, every"),
        ("[jobs.a]\n[schedules.s]\njob = 'a'\ncron = '61 * * * *'\n", "scenario.toml:4:1: "),
        ("[jobs.a]\n[[faults]]\nkind = 'fial'\n", "scenario.toml:3:1: faults.0.kind is 'fial'; did you mean 'fail'?"),
        ("[jobs.a]\n[[faults]]\nkind = 'slow'\n", "of the kind 'slow' needs 'by': how much"),
        ("[jobs.a]\n[[faults]]\nkind = 'hang'\nby = '1s'\n", "of the kind 'hang' has no key 'by'; it has job"),
        ("[jobs.a]\n[[faults]]\nkind = 'fail'\nerror = 'ConectionError'\n", "did you mean 'ConnectionError'?"),
        ("[jobs.a]\n[[arrivals]]\njob = 'a'\nrate = '10 per hour'\n", "which does not fit. How many in a span: '1000/h'"),
        ("[jobs.a]\n[[arrivals]]\njob = 'a'\nrate = '10/h'\n", "these arrivals have no end; give them 'until', or give 'run' a duration"),
        ("[jobs.a]\n[[flows.f]]\njob = 'a'\nstep = 'x'\nafter = 'y'\n[[flows.f]]\njob = 'a'\nstep = 'y'\nafter = 'x'\n",
         "scenario.toml:2:1: the steps of flow 'f' form a cycle: x -> y -> x"),
        ("[jobs.a]\n[[expect]]\nlaw = 'once_per_kex'\n", "there is no law 'once_per_kex'; did you mean 'once_per_key'?"),
        ("[jobs.a]\n[[expect]]\nlaw = 'queue_below'\n", "does not take these arguments"),
        ("[jobs.a]\n[[enqueue]]\njob = 'a'\ncount = 2000000\n", "scenario.toml:4:1: 2,000,000 jobs are too many"),
        ("run = 'an hour'\n[jobs.a]\n", "scenario.toml:1:1: run 'an hour' cannot be read at 'an hour'"),
        ("zone = 'Atlantic/Faroes'\n[jobs.a]\n", "is not in the tz database"),
        ("start = '2031-13-01'\n[jobs.a]\n", "scenario.toml:1:1: start '2031-13-01' is not ISO 8601"),
    ],
)  # fmt: skip
def test_what_cannot_be_used_is_named_with_its_place(text: str, says: str) -> None:
    assert says in wrong(text)


def test_several_mistakes_are_told_at_once() -> None:
    said = wrong("[jobs.a]\nqueu = 'x'\n[jobs.b]\ntimeuot = '3s'\n[workrs]\n")
    assert said.count("\n") == 2
    assert "scenario.toml:2:1" in said
    assert "scenario.toml:4:1" in said


def test_real_code_that_raises_ends_the_run_and_is_named() -> None:
    ran = ic.Scenario.loads(
        "[jobs.a]\n[[calls]]\ncall = 'tern_line.booking:reserve'\nargs = ['TL-999', 1]\n[[expect]]\njob = 'a'\ncount = 0\n"
        "[[calls]]\ncall = 'tern_line.db:open'\n"
    ).run()
    assert "the run was ended by" in ran.stopped
    assert not ran.met
    with pytest.raises(AssertionError, match="not as expected"):
        ran.check()


def test_a_scenario_that_never_gets_dry_says_so() -> None:
    ran = ic.Scenario.loads(POLLS + '[[faults]]\nkind = "hang"\njob = "poll_buoy"\n').run()
    assert "jobs are still open" in ran.stopped


NAMES = st.text("ab-_ ü.\"'\\#[]=", min_size=1, max_size=4)
VALUES = st.recursive(
    st.integers(0, 9) | st.booleans() | st.text("ab#'\"\\,]}\n", max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(NAMES, inner, max_size=3),
    max_leaves=6,
)


def toml(value: object) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    if isinstance(value, str):
        return json.dumps(value)
    if isinstance(value, list):
        return "[" + ", ".join(map(toml, value)) + "]"
    assert isinstance(value, dict)
    return "{" + ", ".join(f"{json.dumps(k, ensure_ascii=False)} = {toml(v)}" for k, v in value.items()) + "}"


def paths(value: object, before: tuple[str | int, ...] = ()) -> set[tuple[str | int, ...]]:
    found = set()
    pairs = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in pairs:
        found |= {(*before, key), *paths(inner, (*before, key))}
    return found


@settings(max_examples=150)
@given(st.lists(st.tuples(NAMES, st.booleans(), st.dictionaries(NAMES, VALUES, max_size=3)), max_size=3))
def test_every_key_of_any_toml_has_its_place(tables: list[tuple[str, bool, dict[str, object]]]) -> None:
    lines: list[str] = []
    kinds: dict[str, bool] = {}
    for name, many, table in tables:
        if name in kinds and not (kinds[name] and many):
            continue
        kinds[name] = many
        quoted = json.dumps(name, ensure_ascii=False)
        lines.append(f"[[{quoted}]]  # [x]" if many else f"[{quoted}]")
        lines += [f"  {json.dumps(key, ensure_ascii=False)} = {toml(value)} # ok = 1" for key, value in table.items()]
    text = "\n".join(lines)
    found = places(text)
    assert set(found) == paths(tomllib.loads(text))
    for path, (line, column) in found.items():
        rest = text.splitlines()[line - 1][column - 1 :]
        if isinstance(path[-1], str):
            assert rest.startswith((json.dumps(path[-1], ensure_ascii=False), "["))
