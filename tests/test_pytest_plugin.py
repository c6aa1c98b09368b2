"""The pytest plugin, in real pytest runs."""

from __future__ import annotations

import json
import sys

import pytest

import ironclock as ic

SLOW = """
    import time
    def slow(n):
        time.sleep(3600)
        raise ValueError(f"no {n}")
"""


def test_fixture_marker_and_defaults(pytester: pytest.Pytester) -> None:
    pytester.makepyprojecttoml('[tool.ironclock]\nzone = "Atlantic/Faroe"\nstart = "2031-05-05T12:00"\n')
    pytester.makepyfile(
        """
        import time, pytest
        def test_defaults(rig):
            assert str(rig.now.tzinfo) == "Atlantic/Faroe"
            assert time.localtime()[:4] == (2031, 5, 5, 12)
        @pytest.mark.rig(start="2031-12-24T18:00", seed=4)
        def test_marker(rig):
            assert time.strftime("%m-%d %H %Z") == "12-24 18 WET"
            with rig:
                time.sleep(60)
            assert rig.now.minute == 1
        @pytest.fixture
        def early(rig):
            yield time.time()
            assert time.localtime().tm_year == 2031
        @pytest.fixture
        def earlier():
            yield time.time()
            assert time.localtime().tm_year < 2031
        def test_fixtures_after_the_rig_are_inside_it(earlier, early, rig):
            assert earlier < early == time.time()
        """
    )
    pytester.runpytest().assert_outcomes(passed=3)


def test_a_failed_test_tells_the_story_and_keeps_it(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        SLOW
        + """
    def test_fixture(rig):
        rig.enqueue(rig.job(slow).call(1)); rig.advance("2h")
        assert not rig.dead
    def test_own():
        import ironclock as ic
        with ic.Rig() as mine:
            mine.enqueue(mine.job(slow).call(2)); mine.run_dry()
        assert not mine.dead
    def test_fine(rig):
        rig.allow("dead jobs")
        rig.enqueue(rig.job(slow).call(3)); rig.advance("2h")
    """
    )
    result = pytester.runpytest("--ironclock-save", "kept")
    result.assert_outcomes(passed=1, failed=2)
    text = result.stdout.str()
    assert "jobs of the rig" in text
    assert "10:00:00+00:00  attempt 1 fails: ValueError: no 1" in text
    assert "attempt 1 fails: ValueError: no 2" in text
    assert "no 3" not in text
    kept = sorted(path.name for path in (pytester.path / "kept").iterdir())
    assert len(kept) == 2
    history = ic.History.load(pytester.path / "kept" / kept[0])
    assert history[-1].what == "failed"


def test_pytests_own_times_stay_real(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        SLOW + "    def test_long(rig):\n        time.sleep(10 ** 7)\n        slow_date = time.time()\n"
    )
    result = pytester.runpytest("--durations=0", "-vv", "--junit-xml=report.xml")
    result.assert_outcomes(passed=1)
    report = (pytester.path / "report.xml").read_text()
    assert 'timestamp="2031' not in report
    import xml.etree.ElementTree as ElementTree

    suite = ElementTree.fromstring(report)[0]
    assert float(suite.attrib["time"]) < 60
    assert all(float(case.attrib["time"]) < 60 for case in suite)


@pytest.mark.parametrize(
    ("toml", "marker", "says"),
    [
        ('zoen = "UTC"', "", "no setting 'zoen'; did you mean 'zone'"), ('zone = "Mars/Base"', "", "Mars/Base"),
        ('judged = "some"', "", "judged is 'some'; give 'all', 'fixture' or 'none'"),
        ("", '@pytest.mark.rig("UTC")', "keyword arguments"), ("", "@pytest.mark.rig(zoen=1)", "zoen"),
    ],
)  # fmt: skip
def test_wrong_settings_are_named(pytester: pytest.Pytester, toml: str, marker: str, says: str) -> None:
    pytester.makefile(".toml", pyproject=f"[tool.ironclock]\n{toml}\n")
    pytester.makepyfile(f"import pytest\n{marker}\ndef test_one(rig): pass\n")
    result = pytester.runpytest()
    assert result.parseoutcomes().get("errors") == 1
    result.stdout.fnmatch_lines([f"*{says}*"])


def test_what_the_plugin_costs_a_suite_that_does_not_use_it(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        "import sys\n"
        "def test_one():\n"
        "    heavy = {'numpy', 'pandas', 'rich', 'click', 'greenlet', 'ironclock.rig'}\n"
        "    assert not heavy & set(sys.modules)\n"
    )
    pytester.runpytest_subprocess("-p", "no:cacheprovider").assert_outcomes(passed=1)


def test_saved_lines_are_json(pytester: pytest.Pytester, rig: ic.Rig) -> None:
    rig.enqueue(rig.job(lambda: None, name="quiet").call())
    rig.settle()
    path = pytester.path / "h.jsonl"
    rig.history.save(path)
    lines = [json.loads(line) for line in path.read_text().splitlines()]
    assert lines[0]["format"] == "ironclock-history"
    assert [line["what"] for line in lines[1:]] == ["enqueued", "started", "done"]


WEATHER = """
    import asyncio, time
    import pytest
    def load(crates):
        time.sleep(5)
        assert crates == 2, "the hold is full"
    def sail(crates):
        load(crates * 3)
    async def radio():
        await asyncio.sleep(5)
        raise ValueError("no answer")
    async def call_pilot():
        await radio()
    def test_sync(rig):
        rig.enqueue(rig.job(sail).call(1)); rig.advance("1h")
        assert rig.jobs("sail").one().state == "done"
    def test_async(rig):
        rig.enqueue(rig.job(call_pilot).call()); rig.advance("1h")
        assert rig.jobs("call_pilot").one().state == "done"
    def test_raised(rig):
        rig.enqueue(rig.job(call_pilot).call()); rig.advance("1h")
        raise rig.dead.one().error
    def test_unknown(rig):
        rig.enqueue(rig.job(sail).call(2))
        rig.jobs("sial")
"""


def test_a_report_has_the_frames_of_the_failed_job_and_none_of_ours(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(WEATHER)
    result = pytester.runpytest("-n0")
    result.assert_outcomes(failed=4)
    told = result.stdout.str()
    result.stdout.fnmatch_lines([
        "*sail-1 failed in attempt 1*", "    def sail(crates):", ">       load(crates * 3)",
        '>       assert crates == 2, "the hold is full"', "*: AssertionError",
        "*call_pilot-1 failed in attempt 1*", ">       await radio()", '>       raise ValueError("no answer")',
    ])  # fmt: skip
    assert "/ironclock/" not in told
    assert "base_events" not in told
    assert told.count("failed in attempt") == 2  # test_raised shows the error itself


def test_a_debugger_begins_in_the_failed_job(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(WEATHER)
    for test, inner, middle in (("test_sync", "load", "sail"), ("test_async", "radio", "call_pilot")):
        child = pytester.run(
            sys.executable, "-m", "pytest", "--pdb", "-k", test, stdin=b"w\nup\nup\np 6 * 7, rig\nq\n"
        )  # fmt: skip
        child.stdout.fnmatch_lines([
            f"The debugger begins where {middle}-1 failed*",
            f"*){test}()*", f"*){middle}()*", f"> *){inner}()*", f"*{middle}()*", f"*{test}()*", "*(42, <rig at *",
        ])  # fmt: skip


def test_a_breakpoint_in_a_job_shows_who_moved_the_clock(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import asyncio, threading, time
        def sail():
            time.sleep(5)
            breakpoint()
            return "sailed"
        async def call_pilot():
            await asyncio.sleep(5)
            breakpoint()
            return "called"
        def test_sync(rig):
            rig.enqueue(rig.job(sail).call()); rig.advance("1h")
        def test_async(rig):
            rig.enqueue(rig.job(call_pilot).call()); rig.advance("1h")
        def test_thread(rig):
            threading.Thread(target=sail).start(); rig.advance("1h")
        """
    )
    for test, where in (("test_sync", "sail"), ("test_async", "call_pilot"), ("test_thread", "sail")):
        child = pytester.run(
            sys.executable, "-m", "pytest", "-k", test, stdin=b"w\np 6 * 7\nn\nn\nn\nc\n"
        )  # fmt: skip
        child.stdout.fnmatch_lines([f"*){test}()*", '-> *rig.advance("1h")', f"*){where}()*", "*42*"])
        child.stdout.no_fnmatch_line("> */ironclock/*")
        child.assert_outcomes(passed=1)


def test_the_story_of_a_job_that_is_tried_hundreds_of_times_is_shortened(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import ironclock as ic

        def test_it(rig):
            job = rig.job(lambda: 1 / 0, name="divide", retry=ic.Retry(300, "1s"))
            rig.enqueue(job.call())
            rig.run_dry()
            assert rig.jobs("divide").one().state == "done"
        """
    )
    said = pytester.runpytest().stdout.str()
    assert "attempt 1 starts on w1" in said
    assert "attempt 150 starts" not in said
    assert "attempt 300 fails: ZeroDivisionError: division by zero" in said
    assert said.count("attempt") < 60
    assert "lines ..." in said


@pytest.mark.parametrize(
    ("tests", "missed"),
    [
        (
            "def test_job(rig):\n    job = rig.enqueue(shop.sell, 3)\n    rig.advance('1m')\n    assert job.result == 'many'\n",
            7,
        ),
        (
            "import helper\n\ndef test_job():\n    with helper.new_rig() as rig:\n        job = rig.enqueue(shop.sell, 1)\n"
            "        rig.advance('1m')\n    assert job.result == 'few'\n",
            6,
        ),
    ],
    ids=["the fixture", "a helper"],
)
def test_coverage_follows_jobs_from_the_first_rig_on(pytester: pytest.Pytester, tests: str, missed: int) -> None:
    """Each of the lines after a sleep is seen, and of the test itself; before the first rig nothing is touched."""
    pytest.importorskip("coverage")
    pytester.makepyfile(
        shop="import time\n\ndef sell(seats):\n    time.sleep(5)\n    if seats > 2:\n        return 'many'\n    return 'few'\n",
        helper="import ironclock as ic\n\ndef new_rig():\n    return ic.Rig()\n",
        test_a_plain="import sys\n\ndef test_plain():\n    assert 'greenlet' not in sys.modules\n",
        test_shop=f"import shop\n{tests}",
    )
    run = ["-m", "coverage", "run", "--include=*/shop.py,*/test_shop.py", "-m", "pytest", "-p", "no:cacheprovider"]
    assert pytester.run(sys.executable, *run).ret == 0
    assert pytester.run(sys.executable, "-m", "coverage", "json", "-o", "found.json").ret == 0
    files = json.loads((pytester.path / "found.json").read_text())["files"]
    assert {name: found["missing_lines"] for name, found in files.items()} == {"shop.py": [missed], "test_shop.py": []}
