"""Small tests that pass and should not, and tests as somebody writes them first: in real pytest runs."""

from __future__ import annotations

import copy
import re
import sys
from pathlib import Path
from typing import Any

import pytest
from kept_failures import KEPT, printed

import ironclock as ic

APPLICATION = """
import asyncio, contextlib, datetime as dt, time
from unittest import mock
import pytest
import ironclock as ic

def put(fn, *args, wait=0):
    raise AssertionError("the real queue was called")

def put_with_more(fn, *args, wait=0, trace=None):
    raise AssertionError("the real queue was called")

def confirm(booking, seats=1):
    return f"{booking}: {seats}"

def weigh(crates):
    assert crates < 10, "too heavy"

def view(crate):
    try:
        put(confirm, crate)
    except Exception:
        return 500
    return 200
"""

HONEST = {
    "a misspelled name is empty in silence": (
        'rig.tap(put); put(confirm, 7); rig.settle(); assert not rig.jobs("confrim")',
        r"no job type is called 'confrim' \[.*test_it\]; did you mean 'confirm'\? known: confirm",
    ),
    "a misspelled name in a fault": (
        'rig.tap(put); rig.faults.fail("confrim"); put(confirm, 7); rig.settle()',
        r"no job type is called 'confrim'[^$]*the fault 'fail confrim' struck 0 times",
    ),
    "a misspelled queue": (
        'rig.tap(put); put(confirm, 7); rig.settle(); assert not rig.jobs(queue="dekc")',
        r"no queue is called 'dekc'",
    ),
    "a fault in the past": (
        'rig.faults.fail(rig.job(confirm), between=("2031-03-02", "2031-03-03")); rig.enqueue(confirm, 7); rig.settle()',
        r"struck 0 times; it is for the time from 2031-03-02T00:00:00\+00:00 to 2031-03-03T00:00:00\+00:00, and the rig",
    ),
    "a fault at an attempt that is never made": (
        "rig.faults.fail(rig.job(confirm), attempts=2); rig.enqueue(confirm, 7); rig.settle()",
        r"the fault 'fail confirm' struck 0 times",
    ),
    "a fault of which a part strikes": (
        "rig.faults.fail(rig.job(confirm, retry=5), attempts=(1, 3)); rig.enqueue(confirm, 7); rig.settle()\n"
        "    assert rig.jobs().states() == {'done': 1}",
        r"'fail confirm' struck only attempt 1, and is for attempts 1 and 3: confirm had 2 attempts \[",
    ),
    "a fault for attempts that come later": (
        'rig.faults.fail(rig.job(confirm, retry=ic.Retry(5, "1h")), attempts=(1, 2, 3)); rig.enqueue(confirm, 7)\n'
        '    rig.advance("90m"); assert rig.jobs().one().state == "backing-off"',
        r"struck only attempts 1 and 2, and is for attempts 1, 2 and 3: confirm had 2 attempts",
    ),
    "a fault behind another one": (
        "rig.faults.fail(rig.job(confirm)); rig.faults.fail(confirm, error=ValueError); rig.enqueue(confirm, 7)\n"
        "    rig.settle(); assert len(rig.dead) == 1",
        r"the fault 'fail confirm' struck 0 times; 'fail confirm' came first",
    ),
    "a fault whose condition is never true": (
        "rig.faults.fail(rig.job(confirm), when=lambda attempt: attempt.job.args == (8,)); rig.enqueue(confirm, 7)\n"
        "    rig.settle()",
        r"struck 0 times; its `when` was never true",
    ),
    "a fault of a job that was never enqueued": (
        "rig.faults.fail(rig.job(confirm)); rig.enqueue(weigh, 1); rig.settle()",
        r"struck 0 times; no job confirm was enqueued",
    ),
    "a fault of a job that never started": (
        "rig.faults.fail(rig.job(confirm)); rig.enqueue(confirm, 7, after='1h')",
        r"struck 0 times; no attempt at confirm was made",
    ),
    "a schedule that never fires": (
        'rig.schedule("close", lambda: 1, "30 1 * * *"); rig.enqueue(confirm, 7); rig.advance("1h")',
        r"the schedule 'close' never fired: its first firing is at 2031-03-04T01:30:00\+00:00, and the rig is at 2031-03-",
    ),
    "a policy under a name that no job had": (
        'rig.tap(put); rig.job(print, name="confirm-7", retry=3); put(confirm, 7); rig.settle()\n'
        '    assert rig.jobs(confirm).one().state == "done"',
        r"the policy of 'confirm-7' was for no job \[.*test_it\]: none had this name; captured without a policy of their "
        "own: confirm",
    ),
    "a dead job whose attempts are only counted": (
        "job = rig.enqueue(weigh, 12); rig.settle(); assert len(job.attempts) == job.attempts_made == 1",
        r"nobody looked at the dead job <job weigh-1\(12\): dead, 1 attempt>: AssertionError: too heavy",
    ),
    "a worker loop that has died": (
        "def works():\n        time.sleep(1)\n        raise OSError('the table is gone')\n"
        "    rig.run_loop(works); rig.enqueue(confirm, 7); rig.advance('1m')",
        r"works.*OSError: the table is gone",
    ),
    "an outage that never comes": (
        'rig.faults.outage(("2031-04-01", "2031-04-02")); rig.enqueue(confirm, 7); rig.settle()',
        r"the outage from 2031-04-01T00:00:00\+00:00 .* is in the future",
    ),
    "a tap that is never called": ("rig.tap(put)", r"<tap on .*:put: 0 jobs.*> was never called"),
    "a law about nothing": (
        "rig.job(confirm); rig.check(ic.laws.nothing_lost())", r"the law nothing_lost\(\) found nothing to judge",
    ),
    "a law about a job that was never enqueued": (
        'rig.job(confirm); rig.enqueue(weigh, 1); rig.settle(); rig.check(ic.laws.no_overlap("confirm"))',
        r"the law no_overlap\('confirm'\) found nothing to judge",
    ),
    "a law of one's own about nothing": (
        "rig.check(lambda jobs: [job.id for job in jobs if job.state == 'dead'])", r"the law <lambda> found nothing",
    ),
    "a wrong assertion in a job": (
        "rig.enqueue(weigh, 12); rig.settle()",
        r"nobody looked at the dead job <job weigh-1\(12\): dead, 1 attempt>: AssertionError: too heavy",
    ),
    "an error of the rig that the application swallows": (
        "rig.tap(put); assert view(object()) == 500", r"the code under test has swallowed PayloadError",
    ),
    "an error of the rig in place of the expected one": (
        "with pytest.raises(Exception): rig.advance(-1)",
        r"pytest.raises\(Exception\) has taken DurationError \[.*test_it\]: .*; expect the error itself",
    ),
    "a law that was not called": ("rig.check(ic.laws.nothing_lost)", r"the law is nothing_lost itself; call it"),
    "no law at all": ("rig.check()", r"check has no laws"),
    "a delay that the reading does not read": (
        "rig.tap(put, reads=ic.reading()); put(confirm, 7, wait=60)",
        r"was called with wait=60, which its reading passes on to the job confirm.*ic\.reading\(after='wait'\)",
    ),
    "a reading of a parameter that is not there": (
        'rig.tap(put, reads=ic.reading(after="wiat"))', r"the parameter 'wiat', which the callable does not have; did",
    ),
    "a tap without a certain reading": (
        "rig.tap(put_with_more)",
        r"give reads=ic\.reading\(job='fn', args=slice\(1, None\), after='wait', kwargs=False\).*not understood: trace",
    ),
    "a clock that is moved past an event loop": (
        "async def moves(): rig.advance('1h')\n    asyncio.run(moves())", r"await rig\.advance_async\(\.\.\.\)",
    ),
    "one job of none": ('rig.tap(put); put(confirm, 7); rig.jobs("cnfirm").one()', r"found none; the rig has confirm \(1"),
    "one job of those that nearly fit": (
        "rig.enqueue(confirm, 7); rig.jobs(confirm, where=lambda job: job.args == (8,)).one()",
        r"found none; without where= there are 1:\s+E?\s+<job confirm-1\(7\): ready>",
    ),
    "a wrong assertion in a job that is tried again later": (
        'rig.enqueue(weigh, 12, retry=ic.Retry(5, "1h")); rig.advance("10m")',
        r"nobody looked at <job weigh-1\(12\): backing-off.*>, whose last attempt failed with AssertionError: too heavy",
    ),
}  # fmt: skip

SHORT = {
    "a function with a delay and retries": (
        'job = rig.enqueue(confirm, "TL-204", seats=2, after="10m", retry=3); rig.advance("10m"); '
        'assert job.result == "TL-204: 2"'
    ),
    "schedules as text and as timedelta": (
        'rig.schedule("close", confirm.__get__("TL-1"), "30 1 * * *"); rig.schedule("poll", lambda: None, '
        'dt.timedelta(hours=5)); rig.schedule("look", lambda: 1, "6h"); rig.advance("1d"); assert len(rig.jobs()) == 9'
    ),
    "a tap whose reading is certain": (
        "rig.tap(put); put(confirm, 7, wait=60); assert rig.jobs(confirm).one().delay == dt.timedelta(minutes=1); "
        "rig.run_dry()"
    ),
    "taps and faults in a block": (
        "with rig.tap(put), rig.faults.fail(): put(confirm, 7); rig.settle()\n    assert len(rig.dead) == 1\n"
        "    rig.enqueue(confirm, 8); rig.settle(); assert rig.jobs(args=(8,)).one().state == 'done'"
    ),
    "exactly these jobs": (
        'rig.enqueue(confirm, 7); rig.enqueue(confirm, 8, seats=2, after="20m"); rig.jobs().must_be((confirm, 7), '
        'ic.expected("confirm", mock.ANY, after="20m", seats=2)); rig.jobs().must_include("confirm"); '
        "rig.jobs().must_be(ic.expected(confirm, 8, ...), (confirm, 7), in_order=False)"
    ),
    "plain lists": (
        "rig.enqueue(confirm, 7); rig.enqueue(confirm, 8); assert rig.jobs().names == ['confirm'] * 2; "
        "assert rig.jobs().args == [(7,), (8,)]; assert isinstance(rig.jobs()[1:], ic.JobSet); "
        "assert rig.jobs()[1:].one().args == (8,)"
    ),
    "waits as text": (
        'rig.faults.fail(rig.job(confirm, retry=ic.Retry(3, ic.exponential("10s"))), attempts=(1, 2)); '
        'job = rig.enqueue(confirm, 7); rig.run_dry(); assert job.waits == ["10s", "20s"]; '
        'job.must_wait("10s", "20s"); job.must_wait("11s", "19s", within=0.1); assert rig.jobs().waits == [job.waits]'
    ),
    "a dead job that is looked at": (
        "rig.enqueue(weigh, 12); rig.settle(); assert rig.jobs().states() == {'dead': 1}"
    ),
    "a dead job in rig.dead": "rig.enqueue(weigh, 12); rig.settle(); assert rig.dead.one().args == (12,)",
    "a dead job whose error is looked at": (
        "job = rig.enqueue(weigh, 12); rig.settle(); assert isinstance(job.error, AssertionError)"
    ),
    "a dead job that a law is about": (
        'job = rig.enqueue(weigh, 12); rig.settle(); rig.check(ic.laws.attempts_at_most("weigh", 1))'
    ),
    "a failing job that is looked at": (
        'job = rig.enqueue(weigh, 12, retry=ic.Retry(5, "1h")); rig.advance("10m"); assert job.state == "backing-off"'
    ),
    "a job that fails for something that is down": (
        "def lands():\n        raise ConnectionError('no harbour')\n"
        "    rig.enqueue(lands, retry=ic.Retry(5, '1h')); rig.advance('10m')"
    ),
    "a dead job whose story is read": (
        'job = rig.enqueue(weigh, 12); rig.settle(); assert "too heavy" in job.story()'
    ),
    "a function that was never enqueued": "rig.enqueue(confirm, 7); rig.settle(); assert not rig.jobs(weigh)",
    "a dead job whose last attempt is looked at": (
        'job = rig.enqueue(weigh, 12); rig.settle(); assert job.attempts[-1].outcome == "failed"'
    ),
    "a dead job whose waits are looked at": (
        'job = rig.enqueue(weigh, 12, retry=ic.Retry(2, "5s")); rig.run_dry(); assert job.waits == ["5s"]'
    ),
    "a fault at more attempts than the policy has": (
        "rig.faults.fail(rig.job(confirm, retry=3), attempts=range(1, 9)); rig.enqueue(confirm, 7); rig.settle()\n"
        "    assert rig.jobs().states() == {'dead': 1}"
    ),
    "a fault that strikes the attempts of several jobs": (
        "rig.faults.fail(rig.job(confirm, retry=3), attempts=(1, 2)); rig.enqueue(confirm, 7); rig.enqueue(confirm, 8)\n"
        "    rig.settle(); assert rig.jobs().states() == {'done': 2}"
    ),
    "a worker loop whose death is looked at": (
        "def works():\n        time.sleep(1)\n        raise OSError('the table is gone')\n"
        "    (worker,) = rig.run_loop(works); rig.advance('1m'); assert isinstance(worker.error, OSError)"
    ),
    "a dead job that is put back": (
        "rig.faults.fail(rig.job(confirm), attempts=1); job = rig.enqueue(confirm, 7); rig.settle(); rig.dead.requeue(job)\n"
        "    rig.settle(); assert job.state == 'done'"
    ),
    "dead jobs that are asked for": (
        "rig.enqueue(weigh, 12); rig.settle(); assert len(rig.jobs(state='dead')) == 1"
    ),
    "a policy for a job that is not to come": (
        'rig.tap(put); later = rig.job(print, name="confirm-7", retry=3); put(confirm, 7); rig.settle(); '
        "assert not rig.jobs(later)"
    ),
    "a policy for a job that did not come this time": (
        'rig.tap(put, policy=ic.Policy(retry=2)); rig.job(print, retry=3); put(confirm, 7); rig.settle()'
    ),
    "a schedule whose next firing is asked for": (
        'till = rig.schedule("close", lambda: 1, "30 1 * * *"); assert till.next.hour == 1'
    ),
    "a schedule that is to do nothing yet": (
        'rig.schedule("close", lambda: 1, "30 1 * * *"); rig.advance("1h"); assert not rig.jobs()'
    ),
    "a schedule that is paused": (
        'rig.schedule("close", lambda: 1, "30 1 * * *").pause(); rig.enqueue(confirm, 7); rig.advance("1h")'
    ),
    "a fault that is to strike nothing": (
        "fault = rig.faults.fail(rig.job(confirm), attempts=2); rig.enqueue(confirm, 7); rig.settle()\n"
        "    assert fault.struck == 0"
    ),
    "a tap through which nothing goes": "rig.tap(put); assert not rig.jobs()",
    "a fault for none of the attempts": (
        "rig.faults.fail(rig.job(confirm), attempts=range(1, 1)); rig.enqueue(confirm, 7); rig.settle()"
    ),
    "mocks in place of jobs": (
        "sends = mock.Mock(name='app.send_mail', return_value=None); later = mock.AsyncMock(return_value=None)\n"
        "    rig.enqueue(sends, 'ada'); rig.enqueue(later); rig.enqueue(mock.MagicMock(), 1); rig.settle()\n"
        "    sends.assert_called_once_with('ada'); later.assert_awaited_once()\n"
        "    assert rig.jobs().names == ['send_mail', 'AsyncMock', 'MagicMock']"
    ),
    "what is allowed in the test": (
        'rig.allow("dead jobs", "idle taps"); rig.tap(put); rig.enqueue(weigh, 12); rig.settle()'
    ),
    "an error of the rig that the test expects": (
        "rig.tap(put)\n    with pytest.raises(ic.PayloadError): put(confirm, object())"
    ),
    "an error of the application that the test expects": (
        "rig.enqueue(confirm, 7); rig.settle()\n    with pytest.raises(Exception): weigh(12)"
    ),
    "an error of the rig that the test expects by its message": (
        "with pytest.raises(Exception, match='-1'): rig.advance(-1)"
    ),
    "the clock of an async test": (
        "log = []\n"
        "    async def reminds():\n"
        "        await asyncio.sleep(60)\n"
        "        log.append(rig.now.strftime('%H:%M'))\n"
        "    async def test():\n"
        "        task = asyncio.create_task(reminds())\n"
        "        rig.enqueue(confirm, 7, after='90m')\n"
        "        await rig.advance_async('2h')\n"
        "        log.append((rig.now.hour, rig.jobs().one().state))\n"
        "        rig.enqueue(confirm, 8)\n"
        "        await rig.settle_async()\n"
        "        log.append(rig.jobs()[1].state)\n"
        "        rig.enqueue(confirm, 9, after='3h')\n"
        "        await rig.run_dry_async()\n"
        "        await rig.advance_to_async('2031-03-03T15:00')\n"
        "        log.append(rig.now.hour)\n"
        "    asyncio.run(test())\n"
        "    assert log == ['09:01', (11, 'done'), 'done', 15]"
    ),
}  # fmt: skip


FAILING = {
    **{name: body for name, (body, _) in HONEST.items()},
    "jobs that differ": 'rig.enqueue(confirm, 7); rig.enqueue(confirm, 8, seats=2); rig.jobs().must_be((confirm, 7), "weigh")',
    "jobs in another order": "rig.enqueue(confirm, 7); rig.enqueue(confirm, 8); rig.jobs().must_be((confirm, 8), (confirm, 7))",
    "waits that differ": "job = rig.enqueue(weigh, 12, retry=3); rig.run_dry(); job.must_wait('10s', '20s')",
    "a job that has not run": 'rig.enqueue(confirm, 7, after="1h"); assert rig.jobs(confirm).one().state == "done"',
    "a job that is due and has not run": 'rig.enqueue(confirm, 7); assert rig.jobs(confirm).one().state == "done"',
    "a job that fails": 'rig.enqueue(weigh, 12); rig.settle(); assert rig.jobs(weigh).one().state == "done"',
    "a job that never ends": (
        "rig.faults.hang(rig.job(confirm)); rig.enqueue(confirm, 7); rig.enqueue(confirm, 8); rig.run_dry()"
    ),
    "a duration that cannot be read": 'rig.advance("1 hour and a half")',
    "a law that is broken": (
        'rig.faults.deliver_twice(rig.job(confirm)); rig.enqueue(confirm, 7); rig.settle()\n'
        '    rig.check(ic.laws.attempts_at_most("confirm", 1))'
    ),
    "a wrong call": "rig.enqueue(confirm, 7, crates=3)",
    "arguments that do not survive": "rig.enqueue(confirm, {7})",
    "a word that is not ours": "rig.enqueue(confirm, 7).status",
}  # fmt: skip


def test_the_page_lists_each_case() -> None:
    page = (Path(__file__).parents[1] / "docs" / "trust.md").read_text(encoding="utf-8")
    listed = re.findall(r"^- (.*)$", page.partition("## Case by case")[2].partition("## Short ways")[0], re.MULTILINE)
    assert listed == [*HONEST, *SHORT]
    assert len(listed) >= 60


def run(pytester: pytest.Pytester, body: str) -> pytest.RunResult:
    pytester.makepyfile(f"{APPLICATION}\ndef test_it(rig):\n    {body}\n")
    return pytester.runpytest("-n0")


@pytest.mark.parametrize(("body", "words"), HONEST.values(), ids=[name.replace(" ", "-") for name in HONEST])
def test_what_passes_and_should_not_fails_in_words(pytester: pytest.Pytester, body: str, words: str) -> None:
    result = run(pytester, body)
    result.assert_outcomes(failed=1)
    assert re.search(words, result.stdout.str()), result.stdout.str()
    result.stdout.no_fnmatch_line("*/src/ironclock/*")


@pytest.mark.parametrize("body", SHORT.values(), ids=[name.replace(" ", "-") for name in SHORT])
def test_short_ways(pytester: pytest.Pytester, body: str) -> None:
    run(pytester, body).assert_outcomes(passed=1)


@pytest.mark.parametrize(
    ("wanted", "table"),
    [
        ('(confirm, 7), (confirm, 9), "weigh", "weigh"', [
            "are not these 4, in this order; there are 3:", "         expected    found",
            "         confirm(7)  confirm-1", "differs  confirm(9)  confirm-2: arguments (8, seats=2)",
            "missing  weigh(...)  -", "extra    -           confirm-3(3)",
        ]),
        ('(confirm, 8, ...), (confirm, 7), confirm', [
            "order  confirm(8, ...)  confirm-1: arguments (7)", "order  confirm(7)       confirm-2: arguments (8, seats=2)",
        ]),
        ('ic.expected(confirm, 7, after="1h"), confirm, confirm', ["differs  confirm(7), after 1h  confirm-1: after 0s"]),
        ('ic.expected(confirm, queue="desk", state="done"), confirm, confirm',
         ["differs  confirm(...), queue desk, state done  confirm-1: queue default, state ready"]),
    ],
)  # fmt: skip
def test_a_difference_is_a_table(pytester: pytest.Pytester, wanted: str, table: list[str]) -> None:
    body = "rig.enqueue(confirm, 7); rig.enqueue(confirm, 8, seats=2); rig.enqueue(confirm, 3); rig.jobs().must_be("
    result = run(pytester, f"{body}{wanted})")
    result.assert_outcomes(failed=1)
    told = result.stdout.str()
    assert all(line in told for line in table), told


def test_a_loose_end_is_not_the_failure_that_a_test_expects(pytester: pytest.Pytester) -> None:
    marks = ["xfail", "xfail(strict=True)", "xfail(raises=AssertionError)"]
    pytester.makepyfile(
        APPLICATION
        + "".join(
            f"\n@pytest.mark.{mark}\ndef test_{n}(rig):\n    rig.enqueue(weigh, 12)\n    rig.settle()\n"
            for n, mark in enumerate(marks)
        )
        + "\n@pytest.mark.xfail(strict=True)\ndef test_expected(rig):\n    assert not rig.enqueue(confirm, 7)\n"
    )
    result = pytester.runpytest("-n0")
    result.assert_outcomes(failed=3, xfailed=1)
    result.stdout.fnmatch_lines(["*nobody looked at the dead job <job weigh-1(12): dead, 1 attempt>*"])


def test_loose_ends_are_allowed_by_a_marker_and_a_setting(pytester: pytest.Pytester) -> None:
    names = ("a wrong assertion in a job", "an error of the rig that the application swallows")
    bodies = [HONEST[name][0] for name in names]
    source = APPLICATION + "".join(f"\ndef test_{n}(rig):\n    {body}\n" for n, body in enumerate(bodies))
    pytester.makepyfile(source + '\n@pytest.mark.rig(allow=["dead jobs"])\ndef test_marker(rig):\n    ' + bodies[0])
    pytester.runpytest("-n0").assert_outcomes(failed=2, passed=1)
    pytester.makepyprojecttoml('[tool.ironclock]\nallow = ["dead jobs", "hidden errors"]\n')
    pytester.runpytest("-n0").assert_outcomes(passed=3)
    pytester.makepyprojecttoml('[tool.ironclock]\nallow = ["dead job"]\n')
    pytester.runpytest("-n0").stdout.fnmatch_lines(["*allow has 'dead job'; did you mean 'dead jobs'?*"])


def test_loose_ends_are_told_in_a_few_lines(pytester: pytest.Pytester) -> None:
    body = (
        "for n in range(30): rig.enqueue(confirm, n)\n    job = rig.enqueue(weigh, 12); rig.settle(); assert job.error\n"
        "    rig.enqueue(weigh, 13); rig.faults.fail(confirm, attempts=2); rig.run_dry()"
    )
    result = run(pytester, body)
    result.assert_outcomes(failed=1)
    told = result.stdout.str()
    assert "weigh-32(13): dead" in told
    assert "weigh-31(12): dead" not in told  # the test has looked at it
    assert "confirm-1(0): done" not in told
    section = told.partition("jobs of the rig")[2].partition("short test summary")[0]
    assert len(section.splitlines()) < 25
    result.stdout.fnmatch_lines(["... and 31 more jobs (--ironclock-save DIR keeps them all)"])
    idle = run(
        pytester, "for n in range(30): rig.enqueue(confirm, n)\n    rig.faults.fail(confirm, attempts=2); rig.settle()"
    )
    section = idle.stdout.str().partition("= FAILURES")[2].partition("short test summary")[0]
    assert len(section.splitlines()) < 30


def test_what_is_allowed_and_not_there_is_told(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        APPLICATION
        + """
def test_by_the_test(rig):
    rig.allow("dead jobs"); rig.enqueue(confirm, 7); rig.settle()
@pytest.mark.rig(allow=["idle taps"])
def test_by_its_marker(rig):
    rig.enqueue(confirm, 7); rig.settle()
def lenient(rig):
    rig.allow("dead jobs")
def test_by_a_helper(rig):
    lenient(rig); rig.enqueue(confirm, 7); rig.settle()
@pytest.mark.rig(allow=["dead jobs"])
@pytest.mark.parametrize("crates", [1, 12])
def test_by_a_marker_of_several(rig, crates):
    rig.enqueue(weigh, crates); rig.settle()
class TestAll:
    pytestmark = pytest.mark.rig(allow=["dead jobs"])
    def test_by_a_class(self, rig):
        rig.enqueue(confirm, 7); rig.settle()
def test_needed(rig):
    rig.allow("dead jobs"); rig.enqueue(weigh, 12); rig.settle()
"""
    )
    pytester.makepyprojecttoml('[tool.ironclock]\nallow = ["idle laws"]\n')
    result = pytester.runpytest("-n0", "-W", "default")
    result.assert_outcomes(passed=7, warnings=2)
    result.stdout.fnmatch_lines_random([
        "*rig.allow [[]*in test_by_the_test[]] allows 'dead jobs', and there is no such loose end; take it away*",
        "*the marker `rig` of the test allows 'idle taps', and there is no such loose end; take it away*",
    ])  # fmt: skip
    pytester.runpytest("-n0", "-W", "error").assert_outcomes(passed=5, failed=2)


def test_every_rig_of_a_test_is_judged(pytester: pytest.Pytester, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", "160")
    pytester.makepyfile(
        APPLICATION
        + """
import unittest
def test_its_own():
    with ic.Rig() as rig:
        rig.enqueue(weigh, 12); rig.settle()
class TestScale(unittest.TestCase):
    def test_its_own_as_well(self):
        rig = self.enterContext(ic.Rig())
        rig.enqueue(weigh, 12); rig.settle()
@pytest.fixture
def desk():
    with ic.Rig() as rig:
        rig.tap(put)
        yield type("Desk", (), {"weigh": lambda _, crates: (rig.enqueue(weigh, crates), rig.settle())})()
def test_of_a_fixture_that_is_no_rig(desk):
    desk.weigh(12)
@pytest.fixture(scope="module")
def scale():
    return 12
@pytest.fixture
def later(request):
    crates = request.getfixturevalue("scale")
    with ic.Rig() as rig:
        yield lambda: (rig.enqueue(weigh, crates), rig.settle())
def test_of_a_fixture_that_asks_for_a_wider_one_in_its_middle(later):
    later()
def call():
    import socket
    with contextlib.suppress(Exception): socket.socket()
def test_strict():
    with ic.Rig(strict=True) as rig:
        rig.enqueue(call); rig.settle()
def test_many():
    for crates in range(100):
        with ic.Rig() as rig:
            rig.enqueue(weigh, 20 if crates == 7 else 1); rig.settle()
@pytest.fixture(scope="module")
def shared():
    with ic.Rig() as rig:
        rig.enqueue(weigh, 12); rig.settle()
        yield rig
def test_shared_fault(shared):
    shared.faults.fail(shared.job(confirm))
def test_shared_job(shared):
    shared.enqueue(weigh, 13); shared.settle()
"""
    )
    result = pytester.runpytest("-n0")
    result.assert_outcomes(failed=8)
    result.stdout.fnmatch_lines(["*has swallowed StrictError*: call-1 opens a real socket in a strict rig*"])
    result.stdout.fnmatch_lines(["FAILED *::test_its_own - nobody looked at the dead job <job weigh-1*"])


def test_honest_rigs_of_a_test_are_not_accused(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        APPLICATION
        + """
def test_it_has_asked():
    with ic.Rig() as rig:
        rig.enqueue(weigh, 12); rig.settle()
        assert rig.loose_ends()[0].startswith("nobody looked at the dead job <job weigh-1")
def test_it_looks_afterwards():
    with ic.Rig() as rig:
        job = rig.enqueue(weigh, 12); rig.settle()
    assert job.state == "dead"
def test_it_says_so():
    with ic.Rig(judged=False) as rig:
        rig.enqueue(weigh, 12); rig.settle()
def test_its_story_ends_early():
    with pytest.raises(ZeroDivisionError), ic.Rig() as rig:
        rig.enqueue(weigh, 12); rig.settle(); 1 / 0
def test_a_search_makes_rigs_of_its_own():
    def story(rig):
        rig.enqueue(weigh, 12); rig.run_dry()
    ic.probe(story, laws=[ic.laws.attempts_at_most("weigh", 9)], faults=["fail"])
@pytest.fixture(scope="module")
def shared():
    with ic.Rig() as rig:
        rig.tap(put); rig.enqueue(weigh, 12); rig.settle()
        yield rig
def test_what_was_there_before_is_not_its_own(shared):
    shared.enqueue(confirm, 7); shared.settle()
"""
    )
    pytester.runpytest("-n0").assert_outcomes(passed=6)


def test_a_dead_job_is_told_when_it_is_approved(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        APPLICATION
        + """
def test_seen(rig):
    job = rig.enqueue(weigh, 12); rig.settle(); assert job.state == "dead"
    rig.matches("seen.jsonl")
def test_unseen(rig):
    rig.enqueue(weigh, 12); rig.settle()
    rig.matches("unseen.jsonl")
"""
    )
    result = pytester.runpytest("-n0", "--ironclock-approve", "-W", "default")
    result.assert_outcomes(passed=2, warnings=1)
    result.stdout.fnmatch_lines(["*unseen.jsonl is approved with a dead job that nobody looked at: <job weigh-1*"])
    pytester.runpytest("-n0").assert_outcomes(passed=2)


@pytest.mark.parametrize(("judged", "failed"), [("all", 2), ("fixture", 1), ("none", 0)])
def test_a_suite_says_whose_rigs_are_judged(pytester: pytest.Pytester, judged: str, failed: int) -> None:
    pytester.makefile(".toml", pyproject=f'[tool.ironclock]\njudged = "{judged}"\n')
    pytester.makepyfile(
        APPLICATION
        + """
def test_fixture(rig):
    rig.enqueue(weigh, 12); rig.settle()
def test_its_own():
    with ic.Rig() as rig:
        rig.enqueue(weigh, 12); rig.settle()
"""
    )
    pytester.runpytest("-n0").assert_outcomes(failed=failed, passed=2 - failed)


GUESSES = {
    "rig.run()": "run_dry(), settle() or advance(...)",
    "rig.forward('1h')": "advance(...)",
    "rig.advnace('1h')": "advance",
    "rig.submit(confirm, 7)": "enqueue(...)",
    "rig.cron('* * * * *', confirm)": "schedule(...)",
    "rig.fail('confirm')": "faults.fail(...)",
    "rig.failed": "jobs(state='dead')",
    "rig.job(confirm).delay(7)": "rig.enqueue(job_type, ..., after='10m')",
    "rig.job(confirm).enqueue(7)": "rig.enqueue(job_type, ...)",
    "rig.enqueue(confirm, 7).status": "state",
    "rig.enqueue(confirm, 7).retries": "attempts_made",
    "rig.enqueue(confirm, 7).cancel()": "withdraw()",
    "rig.jobs().first()": "[0] or [-1]: a set of jobs is a sequence",
    "rig.dead.get()": "one()",
    "rig.jobs().status": "states() or one().state",
}


@pytest.mark.parametrize("guess", GUESSES)
def test_a_first_guess_is_answered_with_the_right_word(guess: str) -> None:
    def confirm(booking: int) -> int:
        return booking

    with ic.Rig() as rig, pytest.raises(AttributeError, match=re.escape(f"; did you mean {GUESSES[guess]}?")):
        eval(guess, {"rig": rig, "confirm": confirm})
    assert not hasattr(rig, "__nothing__")
    copy.copy(rig.jobs())


def test_taps_of_a_suite(pytester: pytest.Pytester) -> None:
    pytester.makepyprojecttoml(
        """
        [tool.ironclock.taps]
        "app:put" = { job = "fn", args = "1:", after = "wait", policy = { retry = { attempts = 2, wait = "10s" } } }
        "app:later" = {}
        "app:odd" = { reads = "app:read_odd" }
        """
    )
    pytester.makepyfile(
        app="""
        import ironclock as ic
        def put(fn, *args, wait=0): raise RuntimeError
        def later(job, *args, delay=0): raise RuntimeError
        def odd(meta, what): raise RuntimeError
        def read_odd(meta, what): return ic.Enqueue(what, (meta,), after="1m")
        def fails(n): raise ValueError(n)
        def works(n): return n
        """
    )
    pytester.makepyfile(
        """
        import app
        def test_all(rig):
            app.put(app.fails, 1, wait=5); app.later(app.works, 2, delay=7); app.odd(3, app.works)
            rig.run_dry()
            assert rig.dead.one().waits == ["10s"]
            assert rig.jobs(app.works).args == [(2,), (3,)]
            told = rig.jobs(app.works)[0].story()
            assert told.startswith("works-2(2): done; captured, with the policy of the rig: one attempt"), told
            assert "captured" not in rig.dead.one().story()
        def test_none_is_a_loose_end(rig):
            assert rig.now
        """
    )
    pytester.runpytest("-n0").assert_outcomes(passed=2)
    for wrong, words in (
        ('"app:putt" = {}', "has no 'putt'; did you mean 'put'?"),
        ('"app:put" = { jobb = 0 }', "a tap has no setting 'jobb'; did you mean 'job'?"),
        ('"app:put" = { policy = { retri = 3 } }', "a policy has no 'retri'; did you mean 'retry'?"),
        ('"app:put" = 3', "the value is 3; give a table"),
        ('"app:odd" = {}', "how to read a call of app:odd(meta, what) is not certain"),
    ):
        pytester.makepyprojecttoml(f"[tool.ironclock.taps]\n{wrong}\n")
        result = pytester.runpytest("-n0")
        assert words in result.stdout.str(), result.stdout.str()


def test_the_applications_own_zone(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TZ", "Atlantic/Faroe")
    assert str(ic.Rig(zone="local").now.tzinfo) == "Atlantic/Faroe"
    monkeypatch.setenv("TZ", "Atlantic/Nowhere")
    with pytest.raises(ic.ZoneError, match="Nowhere"):
        ic.Rig(zone="local")
    monkeypatch.delenv("TZ")
    assert ic.Rig(zone="local").now.tzinfo is not None


def test_a_lease_shorter_than_the_timeout_is_a_warning() -> None:
    with pytest.warns(ic.RigWarning, match="the lease of 1m is shorter than the timeout of 2m"):
        ic.Policy(lease="1m", timeout="2m")


def test_laws_take_a_job_type_in_any_form() -> None:
    def load(crate: int) -> int:
        return crate

    with ic.Rig() as rig:
        kind = rig.job(load)
        rig.enqueue(load, 7)
        rig.settle()
        for form in ("load", kind, load):
            rig.check(ic.laws.no_overlap(form), ic.laws.nothing_lost(form), ic.laws.finishes_within(form, "1m"))
            assert rig.jobs(form).one().state == "done"


def test_what_thirty_failed_tests_print_is_kept() -> None:
    assert len(FAILING) >= 30
    told = printed(FAILING, APPLICATION)
    assert f"{len(FAILING)} failed" in told
    assert "ironclock/" not in told, "no frame of Iron Clock"
    if sys.version_info[:2] == (3, 11):  # pytest itself prints some lines otherwise on others
        assert told == KEPT.read_text(encoding="utf-8"), "run: python tests/kept_failures.py, and read the difference"


def test_async_tests_of_any_plugin(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import asyncio, time, unittest
        import pytest
        import ironclock as ic

        async def reminded(rig):
            log = []
            async def remind():
                await asyncio.sleep(60)
                log.append(rig.now.strftime("%H:%M"))
            task = asyncio.create_task(remind())
            rig.enqueue(len, "abc", after="90m")
            await rig.advance_async("2h")
            await task
            return [*log, rig.now.hour, rig.jobs().one().result]

        @pytest.fixture
        def anyio_backend():
            return "asyncio"

        @pytest.mark.anyio
        async def test_anyio(rig):
            assert await reminded(rig) == ["09:01", 11, 3]

        class Ferry(unittest.IsolatedAsyncioTestCase):
            async def test_own_rig(self):
                assert await reminded(self.enterContext(ic.Rig())) == ["09:01", 11, 3]

        @pytest.mark.usefixtures("rig")
        class Harbour(unittest.IsolatedAsyncioTestCase):
            async def test_fixture(self):
                await asyncio.sleep(100)
                assert time.gmtime()[:5] == (2031, 3, 3, 9, 1)
        """
    )
    pytester.runpytest("-n0").assert_outcomes(passed=3)


def test_functions_are_taken_where_job_types_are() -> None:
    def weigh(crate: int) -> int:
        return crate

    with ic.Rig() as rig:
        rig.listen("arrived", weigh)
        rig.emit("arrived", 7)
        flow = rig.flow("loading").add("first", lambda: 3).add("then", weigh, after="first", with_results=True).start()
        rig.run_dry()
        assert rig.jobs(weigh).args == [(7,), (3,)]
        assert flow.state == "done"


def test_a_function_under_another_name_is_found_by_itself() -> None:
    def load(crate: int) -> int:
        raise ValueError(crate)

    with ic.Rig() as rig:
        rig.job(load, name="ferry.load", retry=1)
        rig.enqueue(load, 7)
        rig.settle()
        rig.jobs(load).must_be((load, 7))
        with pytest.raises(ic.JobsDiffer, match=r"differs .*load\(8\)"):
            rig.jobs().must_be((load, 8))
        rig.check(ic.laws.nothing_lost(load))


def test_an_error_of_the_rig_that_the_application_swallows_is_in_the_history() -> None:
    with ic.Rig() as rig:
        rig.allow("hidden errors")
        kind = rig.job(lambda order: None, name="ship")

        def view() -> int:
            try:
                rig.enqueue(kind, object())
            except Exception:
                return 500
            return 200

        def job() -> None:
            view()

        with pytest.raises(ic.PayloadError):
            rig.enqueue(kind, object())
        rig.enqueue(job)
        rig.settle()
        assert "swallowed" not in rig.history.story(), "the test has caught it itself"
        assert view() == 500
        rig.advance("1s")
        rig.enqueue(job)
        rig.settle()
        rig.advance("1s")
        told = [entry.data["text"] for entry in rig.history if entry.what == "note"]
        assert len(told) == 3
        assert all(text.startswith("the code under test has swallowed PayloadError: ship: argument 0") for text in told)


@pytest.mark.parametrize(("set_it", "says"), [
    (lambda rig, kind: setattr(rig, "zone", "UTC"), r"zone of a Rig cannot be set; give it when you make it: Rig\(zone="),
    (lambda rig, kind: setattr(rig, "seed", 3), "seed of a Rig cannot be set"),
    (lambda rig, kind: setattr(rig, "now", 3), "now of a Rig can only be read; let time pass with advance"),
    (lambda rig, kind: setattr(rig, "workers", 3), r"workers of a Rig is a method; call it: workers\("),
    (lambda rig, kind: setattr(kind, "retry", 3), "retry of the job type 'weigh' cannot be set; give it to rig.job"),
    (lambda rig, kind: setattr(kind, "timeout_ns", 3), "timeout_ns of the job type 'weigh' cannot be set"),
])  # fmt: skip
def test_what_would_be_set_in_vain_is_refused(set_it: Any, says: str) -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="weigh")
        with pytest.raises(ic.WrongName, match=says):
            set_it(rig, kind)
        for owner, name in ((rig.queue("default"), "paused"), (rig.schedules, "down")):
            with pytest.raises(AttributeError):
                setattr(owner, name, True)
        rig.harbour = "a name of the test's own"  # type: ignore[attr-defined]


FAR = """
import socket, pytest
import ironclock as ic

def reports(host):
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        try:
            one.connect((host, 9))
        except OSError:
            pass

def test_far(rig):
    rig.enqueue(reports, "192.0.2.1"); rig.enqueue(reports, "192.0.2.2"); rig.settle()

def test_near(rig):
    rig.enqueue(reports, "127.0.0.1"); rig.settle()

def test_meant():
    with ic.Rig(strict=False) as rig:
        rig.enqueue(reports, "192.0.2.1"); rig.settle()

def test_by_itself(rig):
    reports("192.0.2.1")
"""


def test_a_job_that_reaches_another_machine_is_told_once_with_its_place(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(FAR)
    found = pytester.runpytest("-W", "default")
    found.assert_outcomes(passed=4, warnings=1)
    found.stdout.re_match_lines([
        r".*the job reports reached the real network, 192.0.2.1:9 \[.*py:7 in reports\]; put a simulated service in its "
        r"place \(rig.service\), or say that it is meant: Rig\(strict=False\), strict = false in \[tool.ironclock\]"
    ])  # fmt: skip
    pytester.makepyprojecttoml("[tool.ironclock]\nstrict = false\n")
    pytester.runpytest("-W", "default").assert_outcomes(passed=4, warnings=0)
