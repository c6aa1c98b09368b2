"""The search of a whole suite, in real pytest runs."""

from __future__ import annotations

import re
import shlex
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

BOOKING = """
    import time

    ATTEMPTS = 3

    def charge(bank, booking):
        bank.post("passenger", "fares", 340, key=booking)

    def tell(mail, who):
        time.sleep(1)
        mail.send(who, "Your seat on TL-204")

    def nobody_calls_this():
        return 1
"""
DESK = """
    import ironclock as ic
    import booking

    def test_a_fare(rig):
        bank = rig.service(ic.services.Ledger("bank"))
        charge = rig.job(lambda number: booking.charge(bank, number), name="charge", retry=booking.ATTEMPTS)
        job = rig.enqueue(charge.call("B-1"))
        rig.advance("1h")
        assert (job.state, len(bank.postings)) == ("done", 1)

    def test_a_letter(rig):
        mail = rig.service(ic.services.Mail())
        tell = rig.job(lambda who: booking.tell(mail, who), name="tell")
        rig.enqueue(tell.call("ada@tern-line.test"))
        rig.run_dry()
"""


@pytest.fixture
def desk(pytester: pytest.Pytester) -> pytest.Pytester:
    pytester.makepyfile(booking=BOOKING, test_desk=DESK)
    pytester.syspathinsert()
    return pytester


def searched(pytester: pytest.Pytester, *options: str) -> pytest.RunResult:
    return pytester.runpytest("--ironclock-search", *options)


def section(result: pytest.RunResult, title: str) -> list[str]:
    """The lines of a section at the end of a session."""
    lines = result.outlines
    begin = next(n for n, line in enumerate(lines) if re.fullmatch(rf"=+ {title} =+", line))
    end = next((n for n in range(begin + 1, len(lines)) if lines[n].startswith("====")), len(lines))
    return lines[begin + 1 : end]


def repeats(result: pytest.RunResult) -> list[list[str]]:
    """The commands that repeat what was found, without the word pytest."""
    return [line.split("repeat it: pytest ")[1].split() for line in result.outlines if "repeat it:" in line]


def test_what_breaks_a_law_stands_at_the_end_like_a_failure(desk: pytest.Pytester) -> None:
    result = searched(desk)
    assert result.ret == pytest.ExitCode.TESTS_FAILED
    result.assert_outcomes(passed=2)
    broken = "\n".join(section(result, "BROKEN LAWS"))
    assert "no_key_twice('bank.post') is broken in test_desk.py::test_a_fare" in broken
    assert "no_key_twice('bank.post'): bank.post of 'B-1' is done 2 times" in broken
    assert "charge-1, attempt 1, after bank.post: an error" in broken
    assert "no_key_twice('mail.send') is broken in test_desk.py::test_a_letter" in broken
    told = "\n".join(section(result, "search"))
    assert re.search(r"2 tests searched: \d+ runs and \d+ for shrinking", told)
    fitting = re.search(r"(\d+) of (\d+) single faults that fit were tried", told)
    assert fitting is not None
    assert fitting[1] == fitting[2]
    assert int(fitting[1]) > 20
    assert "2 laws broken" in told
    assert result.outlines[-1].count("2 passed, 2 found by the search")


def test_a_finding_is_repeated_by_its_line_until_the_code_is_mended(desk: pytest.Pytester) -> None:
    (fare, letter) = repeats(searched(desk))
    again = desk.runpytest(*fare)
    again.assert_outcomes(failed=1)
    again.stdout.fnmatch_lines(["*BrokenLaw: a law is broken:*", "*bank.post of 'B-1' is done 2 times*"])
    again.stdout.fnmatch_lines(["*jobs of the rig*", "*charge-1*"])
    desk.makepyfile(test_desk=DESK.replace('Ledger("bank")', 'Ledger("bank", idempotent=True)'))
    mended = desk.runpytest(*fare)
    mended.assert_outcomes(passed=1)
    mended.stdout.fnmatch_lines(["test_desk.py::test_a_fare: with the token every law holds"])
    other = desk.runpytest("test_desk.py::test_a_letter", *fare[1:])
    assert other.ret == pytest.ExitCode.USAGE_ERROR
    other.stderr.fnmatch_lines(["*the replay token is of another test than test_desk.py::test_a_letter*"])
    several = desk.runpytest(*fare[1:])
    several.stderr.fnmatch_lines(["*--ironclock-replay repeats one test, and 2 are chosen*"])
    broken = desk.runpytest(letter[0], "--ironclock-replay", letter[2][:-3])
    broken.stderr.fnmatch_lines(["*the replay token * is damaged*"])


def test_a_tests_own_assertions_are_a_law_if_it_says_so(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import pytest
        import ironclock as ic

        @pytest.mark.laws(asserts=True, default=False)
        def test_a_letter_arrives(rig):
            sent = []
            mail = rig.service(ic.services.Mail())

            def tell():
                try:
                    mail.send("ada@tern-line.test", "hello")
                    sent.append(1)
                except ConnectionError:
                    pass  # nobody tries again

            rig.enqueue(rig.job(tell, retry=ic.Retry(5)))
            rig.run_dry()
            assert sent
        """
    )
    result = searched(pytester)
    assert result.ret == pytest.ExitCode.TESTS_FAILED
    broken = "\n".join(section(result, "BROKEN LAWS"))
    assert "tell-1, attempt 1, before mail.send: an error" in broken
    (line,) = repeats(result)
    again = pytester.runpytest(*line)
    again.assert_outcomes(failed=1)
    again.stdout.fnmatch_lines(["E*assert []*"])


def test_every_line_that_repeats_a_finding_works_in_a_process_of_its_own(desk: pytest.Pytester) -> None:
    """With fixtures that come after the rig, parameters, classes, and coroutines."""
    desk.makepyfile(
        test_desk="""
        import asyncio
        import pytest
        import ironclock as ic
        import booking

        @pytest.fixture
        def bank(rig):
            return rig.service(ic.services.Ledger("bank"))

        @pytest.fixture
        def charge(rig, bank):
            yield rig.job(lambda number: booking.charge(bank, number), name="charge", retry=booking.ATTEMPTS)
            assert bank.postings

        class TestFares:
            @pytest.mark.parametrize("number", ["B-1", "B/2 x"])
            def test_a_fare(self, rig, charge, number):
                rig.enqueue(charge.call(number))
                rig.run_dry()

        def test_a_coroutine(rig, bank):
            async def story():
                rig.enqueue(rig.job(lambda: booking.charge(bank, "B-3"), name="later", retry=booking.ATTEMPTS))
                await asyncio.sleep(60)
            asyncio.run(story())

        def test_two_rigs():
            with ic.Rig():
                pass
            with ic.Rig() as other:
                bank = other.service(ic.services.Ledger("bank"))
                kind = other.job(lambda: booking.charge(bank, "B-4"), name="last", retry=booking.ATTEMPTS)
                other.enqueue(kind)
                other.run_dry()
        """
    )
    lines = [line.split("repeat it: ")[1] for line in searched(desk).outlines if "repeat it:" in line]
    assert len(lines) == 3
    for line in lines:
        again = desk.run(sys.executable, "-m", *shlex.split(line))
        again.assert_outcomes(failed=1)
        again.stdout.fnmatch_lines(["*BrokenLaw: a law is broken:*", "*is done 2 times*"])


def test_the_tests_own_assertions_are_counted_and_not_reported(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        def test_at_once(rig):
            def sail(): pass
            job = rig.enqueue(rig.job(sail, retry=3).call())
            rig.settle()
            assert [attempt.outcome for attempt in job.attempts] == ["done"]
        """
    )
    result = searched(pytester)
    assert result.ret == pytest.ExitCode.OK
    told = "\n".join(section(result, "search"))
    early = re.search(r"(\d+) runs in which the test itself raised an error", told)
    assert early is not None
    assert int(early[1]) >= 3
    assert "no law was broken" in told


KINDS = """
    import asyncio, unittest
    import pytest
    import ironclock as ic

    def lost(rig):
        rig.enqueue(rig.job(sail, ack="early").call())

    def sail(): pass

    class TestDesk:
        def setup_method(self): self.calls = 0
        def test_method(self, rig):
            self.calls += 1
            assert self.calls == 1
            lost(rig); rig.run_dry()

    class Case(unittest.TestCase):
        def setUp(self): self.calls = 0
        def test_case(self):
            self.calls += 1
            self.assertEqual(self.calls, 1)
            with ic.Rig() as rig:
                lost(rig); rig.run_dry()

    class Several(unittest.IsolatedAsyncioTestCase):
        async def test_awaited(self):
            with ic.Rig() as rig:
                lost(rig)
                await rig.advance_async("1m")

    @pytest.mark.parametrize("count", [1, 2])
    def test_parameters(rig, count):
        for _ in range(count): lost(rig)
        rig.run_dry()
        assert len(rig.jobs()) == count

    @pytest.fixture
    def anyio_backend(): return "asyncio"

    @pytest.mark.anyio
    async def test_coroutine(rig):
        lost(rig)
        await rig.advance_async("1m")

    @pytest.fixture
    def berth(rig):
        lost(rig)
        yield rig
        rig.run_dry()

    def test_in_a_fixture(berth):
        berth.advance("1m")

    def test_second_rig_of_two():
        for number in range(2):
            with ic.Rig() as rig:
                if number: lost(rig)
                rig.run_dry()
"""


def test_every_kind_of_test_is_a_story(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(KINDS)
    result = searched(pytester)
    result.assert_outcomes(passed=8)
    told = "\n".join(section(result, "search"))
    assert "8 tests searched" in told
    assert "left out" not in told
    shown = " ".join(section(result, "BROKEN LAWS"))
    assert "nothing_lost is broken in test_every_kind_of_test_is_a_story.py::TestDesk::test_method" in shown
    assert "the same in" in shown  # one cause, told once
    assert shown.count("repeat it:") == 1
    (found,) = repeats(result)
    for name, count in [("Case::test_case", 1), ("Several::test_awaited", 1), ("test_second_rig_of_two", 2)]:
        # Each has a token of its own, which the same search of it alone prints.
        alone = searched(pytester, f"{found[0].partition('::')[0]}::{name}", "-p", "no:cacheprovider")
        ((nodeid, option, token),) = repeats(alone)
        again = pytester.runpytest(nodeid, option, token)
        again.assert_outcomes(failed=1)
        again.stdout.fnmatch_lines(["*BrokenLaw*", "*sail-1 is lost*"])
        assert count <= 2


def test_tests_that_cannot_be_searched_are_named(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import itertools
        import hypothesis, pytest
        import ironclock as ic

        numbers = itertools.count()
        def test_counts(rig):
            def sail(number): pass
            rig.enqueue(rig.job(sail).call(next(numbers))); rig.run_dry()

        tried = []
        def test_once(rig):
            tried.append(1)
            assert len(tried) == 1
            def sail(): pass
            rig.enqueue(rig.job(sail).call()); rig.run_dry()

        @pytest.fixture(scope="module")
        def shared():
            return ic.Rig()
        def test_shared(shared):
            with shared:
                def sail(): pass
                shared.enqueue(shared.job(sail).call()); shared.run_dry()

        @hypothesis.given(hypothesis.strategies.integers())
        def test_drawn(number):
            with ic.Rig() as rig:
                def sail(number): pass
                rig.enqueue(rig.job(sail).call(number)); rig.run_dry()

        @pytest.mark.laws(default=False)
        def test_not_wanted(rig):
            def sail(): pass
            rig.enqueue(rig.job(sail).call()); rig.run_dry()

        @pytest.mark.xfail(strict=True)
        def test_fails(rig):
            def sail(): pass
            rig.enqueue(rig.job(sail).call()); rig.run_dry()
            assert False
        """
    )
    result = searched(pytester)
    told = "\n".join(section(result, "search"))
    assert "4 tests left out:" in told
    assert "test_counts: it differs between two runs: entry 1 is " in told
    assert "sail-1 enqueued" in told
    assert "test_once: it fails if it is run again: AssertionError" in told
    assert "test_shared: its rig is made once for several tests" in told
    assert "test_drawn: it draws its own examples" in told
    assert "test_not_wanted" not in told
    assert "test_fails" not in told
    assert result.ret == pytest.ExitCode.OK


def test_what_has_not_changed_is_not_searched_again(desk: pytest.Pytester) -> None:
    def counts() -> tuple[int, int]:
        told = "\n".join(section(searched(desk), "search"))
        new = re.search(r"(\d+) tests? searched", told)
        kept = re.search(r"(\d+) tests? not searched again", told)
        assert "2 laws broken" in told  # what was found stands until it is mended
        return int(new[1]) if new else 0, int(kept[1]) if kept else 0

    assert counts() == (2, 0)
    assert counts() == (0, 2)
    module = desk.path / "booking.py"
    source = module.read_text()
    module.write_text("# a comment\n\n" + source.replace("return 1", "return 2"))
    assert counts() == (0, 2)  # neither test runs what has changed
    module.write_text(source.replace("time.sleep(1)", "time.sleep(2)"))
    assert counts() == (1, 1)
    module.write_text(source.replace("time.sleep(1)", "time.sleep(2)").replace("ATTEMPTS = 3", "ATTEMPTS = 4"))
    assert counts() == (2, 0)  # both import the module
    desk.makefile(".ini", pytest="[pytest]\n")
    assert counts() == (0, 2)
    kept = next((desk.path / ".pytest_cache" / "d" / "ironclock-search").iterdir())
    kept.write_text(kept.read_text()[:100])
    result = searched(desk)
    result.stdout.fnmatch_lines(["*the kept search * is damaged (JSONDecodeError: *; * is searched again*"])
    assert "2 laws broken" in "\n".join(section(result, "search"))
    assert counts() == (0, 2)
    kept.write_text("[]")
    assert "is damaged (ValueError: it holds list" in searched(desk).stdout.str()


def test_a_budget_is_spread_and_the_rest_follows_later(desk: pytest.Pytester) -> None:
    def tried(*options: str) -> tuple[int, int]:
        found = re.search(r"(\d+) of (\d+) single faults", "\n".join(section(searched(desk, *options), "search")))
        assert found is not None
        return int(found[1]), int(found[2])

    some, most = tried("--ironclock-budget", "12 runs", "--ironclock-seams-json", "first.json")
    assert 6 <= some <= 12 < most
    seen = {(desk.path / "first.json").read_text()}
    tried("--ironclock-budget", "12 runs", "--ironclock-seams-json", "second.json")
    seen.add((desk.path / "second.json").read_text())
    assert len(seen) == 2  # other faults than those of the first session
    all_tried, fitting = tried()
    assert all_tried == fitting > some
    assert tried("--ironclock-budget", "1h", "-p", "no:cacheprovider") == (fitting, fitting)
    some, _ = tried("--ironclock-budget", "1ms", "-p", "no:cacheprovider")
    assert 1 <= some <= 4
    desk.makepyprojecttoml('[tool.ironclock]\nbudget = "12 runs"\n')
    assert tried("-p", "no:cacheprovider")[0] <= 12


@pytest.mark.parametrize(
    ("options", "says"),
    [
        (
            ["--ironclock-search", "--ironclock-budget", "0"],
            "the budget of the search is 0, in which nothing can be run",
        ),
        (["--ironclock-search", "--ironclock-budget", "0 runs"], "is '0 runs', in which nothing can be run; give a"),
        (["--ironclock-search", "--ironclock-budget", "soon"], "is 'soon'; give a duration such as '2m', or a number"),
        (
            ["--ironclock-budget", "2m"],
            "--ironclock-budget is for the search and for --ironclock-notice; give one of the two as well",
        ),
        (["--ironclock-seams-min", "120"], "--ironclock-seams-min is '120'; give a share in percent, from 0 to 100"),
        (["--ironclock-seams-min", "much"], "--ironclock-seams-min is 'much'; give a share in percent, from 0 to 100"),
        (["--ironclock-replay", "nothing"], "the replay token is 'nothing'; a token begins with 'ic1-'"),
    ],
)
def test_an_option_that_cannot_be_used(desk: pytest.Pytester, options: list[str], says: str) -> None:
    result = desk.runpytest(*options)
    assert result.ret == pytest.ExitCode.USAGE_ERROR
    assert says in result.stderr.str()


@pytest.mark.parametrize(
    ("toml", "says"),
    [
        ("budget = 0", "the budget of the search is 0, in which nothing can be run"),
        ("laws = 3", "[tool.ironclock]: [[tool.ironclock.laws]] is 3; give [[tool.ironclock.laws]]"),
        ('laws = [{law = "nothing_lsot"}]', "there is no law 'nothing_lsot'; did you mean 'nothing_lost'?"),
        ('laws = [{law = "booking:seats"}]', "the law 'booking:seats' cannot be imported: "),
        ('laws = [{law = "once_per_key", with = [1, 2, 3]}]', "the law once_per_key"),
    ],
)
def test_a_setting_that_cannot_be_used(desk: pytest.Pytester, toml: str, says: str) -> None:
    desk.makepyprojecttoml(f"[tool.ironclock]\n{toml}\n")
    result = searched(desk)
    assert result.ret == pytest.ExitCode.USAGE_ERROR
    assert says in result.stderr.str()


def test_laws_of_a_marker_hold_without_faults_as_well(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import pytest
        import ironclock as ic

        def fails(rig):
            def sail(): raise OSError("fog")
            job = rig.enqueue(rig.job(sail, retry=3).call()); rig.run_dry()
            assert job.state == "dead"

        @pytest.mark.laws(ic.laws.attempts_at_most("sail", 2))
        def test_too_often(rig): fails(rig)

        @pytest.mark.laws(ic.laws.attempts_at_most("sail", 3))
        def test_often_enough(rig): fails(rig)

        @pytest.mark.laws(ic.laws.attempts_at_most("sale", 3))
        def test_another_name(rig): fails(rig)

        @pytest.mark.laws("nothing_lsot")
        def test_unknown(rig): fails(rig)

        @pytest.mark.laws([ic.laws.nothing_lost])
        def test_not_called(rig): fails(rig)

        @pytest.mark.laws(default=3)
        def test_default(rig): fails(rig)

        @pytest.mark.laws("nothing_lost")
        def test_without_a_rig(): pass
        """
    )
    for options in ([], ["--ironclock-search"]):
        result = pytester.runpytest(*options)
        result.assert_outcomes(passed=1, failed=6)
        for says in (
            "a law of the marker is broken:",
            "there is no law 'nothing_lsot'; did you mean 'nothing_lost'?",
            "the law is nothing_lost itself; call it: ic.laws.nothing_lost(...)",
            "has default=3; give laws, default=False to leave out those of every test, asserts=True to",
            "no job type has that name; did you mean 'sail'?",
            "test_without_a_rig has laws, and the test makes no rig",
        ):
            assert says in result.stdout.str(), says


def test_laws_of_the_project_are_asked_where_they_apply(pytester: pytest.Pytester) -> None:
    pytester.makepyprojecttoml(
        '[[tool.ironclock.laws]]\nlaw = "attempts_at_most"\nwith = ["sail", 1]\n'
        '[[tool.ironclock.laws]]\nlaw = "fleet:all_done"\n'
    )
    pytester.makepyfile(
        fleet='def all_done(world):\n    return [f"{job.id} is {job.state}" for job in world if job.state == "dead"]\n',
        test_fleet="""
        def test_sail(rig):
            def sail(): pass
            rig.enqueue(rig.job(sail, retry=2).call()); rig.run_dry()
        def test_moor(rig):
            def moor(): pass
            rig.enqueue(rig.job(moor).call()); rig.run_dry()
        """,
    )
    pytester.syspathinsert()
    result = searched(pytester)
    assert "attempts_at_most is broken in test_fleet.py::test_sail" in result.stdout.str()
    assert "1 law broken" in "\n".join(section(result, "search"))


def test_each_run_has_new_fixtures_in_the_same_folder(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import os, logging
        def test_files(rig, tmp_path, capsys, caplog, monkeypatch):
            assert list(tmp_path.iterdir()) == []
            monkeypatch.setenv("BERTH", "7")
            def note(path):
                with open(path, "a") as file:
                    file.write("x")
                print(os.environ["BERTH"])
                logging.warning("noted")
            rig.enqueue(rig.job(note, retry=3).call(str(tmp_path / "log")))
            rig.run_dry()
            assert (tmp_path / "log").read_text().startswith("x")
            assert capsys.readouterr().out.startswith("7")
            assert caplog.messages[0] == "noted"
        """
    )
    result = searched(pytester)
    told = "\n".join(section(result, "search"))
    assert "left out" not in told
    assert "1 test searched" in told
    assert result.ret == pytest.ExitCode.OK
    assert "noted" not in result.stdout.str()


def test_a_run_that_waits_for_what_never_comes_is_given_up(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        def test_waits(rig):
            def sail(): pass
            job = rig.enqueue(rig.job(sail, ack="early").call())
            while job.state != "done":
                rig.advance("1s")
        """
    )
    began = time.monotonic()
    result = searched(pytester)
    told = "\n".join(section(result, "search"))
    assert re.search(r"[1-9]\d* runs that took too long and were given up", told)
    assert "nothing_lost is broken" in result.stdout.str()  # its laws are checked all the same
    assert time.monotonic() - began < 60


def test_a_failed_fixture_leaves_no_rig_entered(pytester: pytest.Pytester) -> None:
    """A finalizer raised NameError when the setup of a fixture failed inside a rig."""
    pytester.makepyfile(
        """
        import pytest
        @pytest.fixture
        def berth(rig):
            raise OSError("fog")
        def test_first(berth): pass
        def test_second(rig): pass
        """
    )
    result = pytester.runpytest()
    result.assert_outcomes(passed=1, errors=1)
    assert "NameError" not in result.stdout.str()


@pytest.mark.exhaustive
def test_processes_share_the_work(desk: pytest.Pytester) -> None:
    pytest.importorskip("xdist")
    result = desk.runpytest_subprocess("--ironclock-search", "--ironclock-seams", "-n", "2")
    assert result.ret == pytest.ExitCode.TESTS_FAILED
    told = "\n".join(section(result, "search"))
    assert "2 tests searched" in told
    assert "2 laws broken" in told
    table = "\n".join(section(result, "fault coverage"))
    assert re.search(r"charge +ok +BROKEN +BROKEN", table)
    assert re.search(r"tell +\. +ok +BROKEN", table)
    again = desk.runpytest_subprocess("--ironclock-search", "-n", "2")
    assert "2 tests not searched again" in "\n".join(section(again, "search"))


def test_ctrl_c_shows_what_was_found(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import pytest
        import ironclock as ic
        @pytest.mark.parametrize("number", range(60))
        def test_lost(rig, number):
            def sail(number): pass
            for other in range(20):
                rig.enqueue(rig.job(sail, ack="early").call(other))
            rig.run_dry()
        """
    )
    process = pytester.popen(
        [sys.executable, "-m", "pytest", "--ironclock-search", "-p", "no:cacheprovider"],
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
    )  # fmt: skip
    assert process.stdout is not None
    lines = []
    with process, process.stdout:
        for line in process.stdout:
            lines.append(line)
            if re.match(r"searching: .* [1-9]\d* laws? broken", line):
                process.send_signal(signal.SIGINT)
    out = "".join(lines)
    assert "nothing_lost is broken in" in out
    assert "the search was interrupted: what it found so far is above" in out
    assert "repeat it: pytest" in out
    assert process.returncode == pytest.ExitCode.INTERRUPTED


def test_a_suite_without_a_rig(pytester: pytest.Pytester) -> None:
    pytester.makepyfile("def test_nothing(): pass")
    result = searched(pytester, "--ironclock-seams")
    assert result.ret == pytest.ExitCode.OK
    result.stdout.fnmatch_lines(["no test was searched: none that has passed uses a rig", "nothing to tell: *"])


def test_approved_histories_are_not_written_under_faults(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        def test_approved(rig):
            def sail(): pass
            rig.enqueue(rig.job(sail, retry=3).call()); rig.run_dry()
            rig.matches("sail.jsonl")
        """
    )
    pytester.runpytest("--ironclock-approve")
    approved = (pytester.path / "sail.jsonl").read_bytes()
    result = searched(pytester, "--ironclock-approve")
    assert result.ret == pytest.ExitCode.OK
    assert Path(pytester.path / "sail.jsonl").read_bytes() == approved


def test_a_test_that_interrupts_itself_does_not_end_the_search(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import signal
        import pytest
        def test_interrupted(rig):
            def sail(): pass
            rig.enqueue(rig.job(sail, retry=3).call()); rig.run_dry()
            with pytest.raises(KeyboardInterrupt):
                signal.raise_signal(signal.SIGINT)

        def test_raises(rig):
            rig.allow("dead jobs")
            def stop(): raise KeyboardInterrupt
            rig.enqueue(rig.job(stop).call(), after="1h")
            with pytest.raises(KeyboardInterrupt):
                rig.advance("1h")
        """
    )
    result = searched(pytester)
    assert result.ret == pytest.ExitCode.OK
    told = "\n".join(section(result, "search"))
    assert "interrupted" not in told
    assert "2 tests searched" in told
    assert "left out" not in told


def test_parts_of_a_test_are_reported_once(pytester: pytest.Pytester) -> None:
    """The parts of a `subTest` were reported again in each run of the search, and failed there."""
    pytester.makepyfile(
        """
        import unittest
        import ironclock as ic

        class Case(unittest.TestCase):
            def test_parts(self):
                rig = self.enterContext(ic.Rig())
                for number in range(3):
                    with self.subTest(number=number):
                        def sail(): pass
                        job = rig.enqueue(rig.job(sail, name=f"sail-{number}", retry=3).call())
                        rig.settle()
                        self.assertEqual(job.state, "done")
        """
    )
    plain = pytester.runpytest("-p", "no:cacheprovider")
    result = searched(pytester, "--ironclock-seams")
    assert result.ret == pytest.ExitCode.OK
    counts = re.compile(r"\d+ (?:subtests )?passed")
    assert counts.findall(result.outlines[-1]) == counts.findall(plain.outlines[-1])
    told = "\n".join(section(result, "search"))
    assert "1 test searched" in told
    assert "left out" not in told


def test_lots_are_the_same_in_each_run(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import os, random, secrets, uuid

        def test_lots(rig):
            def sail(*lots): pass
            lots = str(uuid.uuid4()), secrets.token_hex(4), random.random(), os.urandom(4).hex()
            rig.enqueue(rig.job(sail, ack="early").call(*lots))
            rig.run_dry()

        drawn = set()
        def test_they_are_drawn_anew_in_the_suite():
            for _ in range(3):
                drawn.add((uuid.uuid4(), random.random()))
            assert len(drawn) == 3
        """
    )
    first, second = searched(pytester), searched(pytester)
    for result in (first, second):
        told = "\n".join(section(result, "search"))
        assert "1 test searched" in told
        assert "left out" not in told
        (found,) = repeats(result)
        again = pytester.runpytest(*found)
        again.assert_outcomes(failed=1)
        again.stdout.fnmatch_lines(["*sail-1 is lost*"])
