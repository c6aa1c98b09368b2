"""Would the tests notice? Weak tests with a known answer, and the report."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import pytest

ROOT = Path(__file__).parents[2]
sys.path.insert(0, str(ROOT))
from benchmarks.weak_tests import HEAD, WEAK, Weak  # noqa: E402

pytest_plugins = ["pytester"]


def asked(pytester: pytest.Pytester, tests: str, *more: str, code: str = "", settings: str = "") -> tuple[Any, Any]:
    """Run tests with the option; return pytest's result and the report as data."""
    pytester.makepyfile(test_it=HEAD + tests)
    modules = ""
    if code:
        pytester.makepyfile(app=code)
        modules = 'notice = ["app"]\n'
    pytester.makepyprojecttoml(
        f"[tool.ironclock]\n{modules}{settings}\n[tool.pytest.ini_options]\npythonpath = ['.']\n"
    )
    result = pytester.runpytest_inprocess("--ironclock-notice", "--ironclock-notice-json", "told.json", *more)
    sys.modules.pop("app", None)
    path = pytester.path / "told.json"
    return result, json.loads(path.read_text(encoding="utf-8")) if path.exists() else None


def states(told: Any) -> dict[str, str]:
    return {one["text"]: one["state"] for one in told["changes"]}


def test_there_are_enough_of_them() -> None:
    assert len(WEAK) >= 20
    assert sum(len(weak.answers) for weak in WEAK) >= 50


@pytest.mark.parametrize("weak", [
    pytest.param(weak, id=weak.name, marks=pytest.mark.exhaustive if number % 7 else ())
    for number, weak in enumerate(WEAK)
])  # fmt: skip
def test_a_weak_test_with_a_known_answer(weak: Weak, pytester: pytest.Pytester) -> None:
    _, told = asked(pytester, weak.tests, code=weak.code)
    found = states(told)
    assert {text: found.get(text) for text in weak.answers} == weak.answers, told["left_out"]


CHARGE = """
def charge(booking):
    pass

def test_charge(rig):
    kind = rig.job(charge, retry=ic.Retry(attempts=3, wait="10s"))
    rig.enqueue(kind.call("TL-1"))
    rig.run_dry()
"""


def test_the_report_says_why_and_shows_a_test_that_notices_it(pytester: pytest.Pytester) -> None:
    result, told = asked(pytester, CHARGE)
    result.assert_outcomes(passed=1)
    result.stdout.fnmatch_lines(
        [
            "*= would the tests notice? =*",
            "jobs",
            "  charge  *0 of 6 noticed",
            "    1 attempt instead of 3: the test still passes: no test lets it fail",
            "      this test notices it:",
            "*rig.faults.fail('charge', attempts=1)",
            "1 test asked: * runs in *",
            "0 of 6 changes noticed: 0.0 %",
        ]
    )
    assert told["format"] == "ironclock notice"
    assert told["percent"] == 0


@pytest.mark.parametrize("change", [0, *(pytest.param(one, marks=pytest.mark.exhaustive) for one in range(1, 6))])
def test_a_suggested_test_passes_and_notices_the_change(pytester: pytest.Pytester, change: int) -> None:
    _, told = asked(pytester, CHARGE)
    one = told["changes"][change]
    assert one["test_to_add"], one["text"]
    _, again = asked(pytester, CHARGE + "\n" + one["test_to_add"])
    assert states(again)[one["text"]] == "noticed"


def test_a_method_is_a_test_to_build_upon_as_well(pytester: pytest.Pytester) -> None:
    tests = """
class TestDesk:
    def setup_method(self):
        self.fares = []

    def test_charge(self, rig):
        kind = rig.job(lambda: self.fares.append(1), name="charge", retry=3)
        rig.enqueue(kind.call())
        rig.run_dry()
        assert len(self.fares) == 1
"""
    result, told = asked(pytester, tests)
    result.assert_outcomes(passed=1)
    found = {one["text"]: one for one in told["changes"]}
    added = found["charge: 1 attempt instead of 3"]["test_to_add"]
    assert added.startswith("def test_charge_notices(self, rig):")
    _, again = asked(pytester, tests + "\n" + "\n".join(f"    {line}" for line in added.splitlines()) + "\n")
    assert states(again)["charge: 1 attempt instead of 3"] == "noticed"


def test_a_least_share_and_exceptions(pytester: pytest.Pytester) -> None:
    result, _ = asked(pytester, CHARGE, "--ironclock-notice-min", "80")
    assert result.ret == pytest.ExitCode.TESTS_FAILED
    result.stdout.fnmatch_lines(["0.0 % of the changes were noticed, below --ironclock-notice-min 80"])
    meant = "unnoticed = [{ change = 'charge: 1 attempt instead of 3', reason = 'it is free' }]"
    result, told = asked(pytester, CHARGE, settings=meant)
    assert (told["noticed"], told["unnoticed"]) == (0, 5)
    assert next(one["reason"] for one in told["changes"] if one["words"].startswith("1 attempt")) == "it is free"
    fails = CHARGE.replace("    rig.enqueue", "    rig.faults.fail('charge', attempts=1)\n    job = rig.enqueue")
    fails += "    assert job.state == 'done'\n"
    result, _ = asked(pytester, fails, settings=meant)
    result.stdout.fnmatch_lines(["charge: 1 attempt instead of 3: it is noticed now, by *; take it out of *"])


def test_what_is_new_since_the_last_session_and_what_is_kept(pytester: pytest.Pytester) -> None:
    asked(pytester, CHARGE)
    result, told = asked(pytester, CHARGE)
    assert told["kept"] == 6
    assert not any(one["is_new"] for one in told["changes"])
    result, told = asked(pytester, CHARGE.replace('wait="10s"', 'wait="10s", within="1h"'))
    new = [one["text"] for one in told["changes"] if one["is_new"]]
    assert new == ["charge: no limit within which it is tried"]
    result.stdout.fnmatch_lines(
        ["    NEW: no limit within which it is tried: *", "*, 1 of them new since the last run"]
    )


def test_tests_that_cannot_be_asked(pytester: pytest.Pytester) -> None:
    result, told = asked(
        pytester,
        """
import itertools
from hypothesis import given, strategies
numbers = itertools.count()

def test_differs(rig):
    rig.enqueue(rig.job(lambda n: None, name="count").call(next(numbers)))
    rig.run_dry()

def test_fails_the_second_time(rig):
    rig.enqueue(rig.job(lambda: None, name="once").call())
    rig.run_dry()
    assert next(numbers) < 3

@given(strategies.integers())
def test_draws(n):
    with ic.Rig() as rig:
        rig.advance("1s")
""",
    )
    result.stdout.fnmatch_lines(["3 tests left out:"])
    left_out = {name.rpartition("::")[2]: why for name, why in told["left_out"].items()}
    assert left_out["test_differs"] == "it is not deterministic: two runs have other histories"
    assert left_out["test_fails_the_second_time"].startswith("it fails if it is run again: AssertionError")
    assert left_out["test_draws"] == "it draws its own examples"


def test_a_change_that_never_ends_is_noticed(pytester: pytest.Pytester) -> None:
    code = """
    def work(numbers):
        left = len(numbers)
        while left > 0:
            left -= 1
            if left < 0:
                left = 1
    """
    tests = """
import app
def test_work(rig):
    rig.enqueue(rig.job(app.work).call([1, 2]))
    rig.run_dry()
    assert rig.jobs("work").one().state == "done"
"""
    _, told = asked(pytester, tests, code=code)
    found = {one["text"]: one for one in told["changes"]}
    endless = found["app.work: >= for > in left > 0"]
    assert (endless["state"], endless["how"]) == ("noticed", "the test did not come to its end")
    assert found["app.work: <= for < in left < 0"]["state"] == "noticed"


def test_processes_put_their_answers_together(pytester: pytest.Pytester) -> None:
    other = CHARGE.replace("test_charge", "test_again").replace(
        "    rig.run_dry", "    rig.faults.fail('charge', attempts=1)\n    rig.run_dry"
    )
    both = CHARGE + other + "    assert rig.jobs('charge').one().state == 'done'\n"
    _, told = asked(pytester, both, "-n", "2", "-p", "xdist")
    _, alone = asked(pytester, both)
    assert states(told) == states(alone)
    assert states(told)["charge: 1 attempt instead of 3"] == "noticed"
    assert told["tests"] == 2


def test_the_page_has_both(pytester: pytest.Pytester) -> None:
    asked(pytester, CHARGE, "--ironclock-seams-page", "page.html")
    text = (pytester.path / "page.html").read_text(encoding="utf-8")
    assert "<h1>Fault coverage</h1>" in text
    assert "<h2>Would the tests notice?</h2><p>0 of 6 changes noticed: 0.0 %</p>" in text
    assert "no test lets it fail" in text


def test_code_is_as_it_was_afterwards(pytester: pytest.Pytester) -> None:
    tests = """
import app
def test_tell(rig):
    rig.enqueue(rig.job(app.tell).call(2))
    rig.run_dry()
    assert app.told == [2]
    app.told.clear()

def test_code():
    assert "seen" not in "".join(app.tell.__code__.co_names)
"""
    code = "told = []\ndef tell(n):\n    if n > 1:\n        told.append(n)\n"
    result, told = asked(pytester, tests, code=code)
    result.assert_outcomes(passed=2)
    assert states(told)["app.tell: >= for > in n > 1"] == "the same"
    import dis

    sys.path.insert(0, str(pytester.path))
    try:
        import app  # type: ignore[import-not-found]

        assert "__ironclock" not in dis.Bytecode(app.tell).dis()
    finally:
        sys.path.remove(str(pytester.path))
        sys.modules.pop("app", None)


@pytest.mark.parametrize(
    ("settings", "error"),
    [
        ("notice = 'app'", "notice is 'app'; give a list of names of modules"),
        ("unnoticed = ['x']", "unnoticed has 'x'; give change and reason as text"),
        ("unnoticed = [{ change = 'x', reason = ' ' }]", "unnoticed has 'x' without a reason; say why nobody notices"),
        ("unnoticed = [{ change = 'x', reason = 'y', resaon = 'z' }]", "unnoticed has the key 'resaon'; *'reason'"),
    ],
)
def test_settings_that_cannot_be_used(pytester: pytest.Pytester, settings: str, error: str) -> None:
    result, _ = asked(pytester, CHARGE, settings=settings)
    assert result.ret == pytest.ExitCode.USAGE_ERROR
    result.stderr.fnmatch_lines([f"ERROR: *{error.replace('[', '?')}*"])


def test_a_budget_in_runs(pytester: pytest.Pytester) -> None:
    result, told = asked(pytester, CHARGE, "--ironclock-budget", "5 runs")
    assert told["runs"] <= 12
    result.stdout.fnmatch_lines(["* changes not tried: the budget was used up*"])
