"""Replay tokens: the same run in another process, on another Python, and what is said where the story has changed."""

from __future__ import annotations

import os
import subprocess
import sys
from functools import partial
from pathlib import Path
from typing import Any

import probed
import pytest
from hypothesis import given
from hypothesis import strategies as st

import ironclock as ic
from ironclock.rig import held
from ironclock.search.plan import Move, Place, Plan
from ironclock.search.replay_token import Token, read

TESTS = Path(__file__).parents[1]


@pytest.fixture(scope="module")
def double() -> ic.Finding:
    (found,) = ic.probe(probed.charges, probed.LAWS, faults=["fail"])
    return found


def replayed(token: str, story: Any) -> ic.Rig:
    rig = ic.Rig()
    rig.replay(token)
    with rig:
        story(rig)
    return rig


def test_a_token_repeats_the_very_run(double: ic.Finding) -> None:
    rig = replayed(double.token, probed.charges)
    assert rig.history.digest() == double.digest
    assert rig.history.story() == double.story
    with pytest.raises(ic.BrokenLaw, match="done 2 times"):
        rig.check(*probed.LAWS)


@pytest.mark.parametrize("seed", ["0", "77"])
def test_in_another_process_with_another_hash_seed(double: ic.Finding, seed: str) -> None:
    code = f"import ironclock as ic, probed; r = ic.Rig(); r.replay({double.token!r})\nwith r: probed.charges(r)\nprint(r.history.digest())"
    env = {**os.environ, "PYTHONHASHSEED": seed, "PYTHONPATH": str(TESTS)}
    done = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True)
    assert done.stdout.strip() == double.digest


def test_a_story_that_no_longer_comes_to_the_place(double: ic.Finding) -> None:
    def renamed(rig: ic.Rig) -> None:
        bank = rig.service(ic.services.Ledger("bank"))
        kind = rig.job(lambda: bank.post("a", "b", 1), name="charge_ticket")
        rig.enqueue(kind.call())
        rig.run_dry()

    with pytest.raises(ic.ReplayError) as caught:
        replayed(double.token, renamed)
    words = str(caught.value)
    assert "the token no longer fits this story, which has changed since" in words
    assert "it never came to charge_fare-1, attempt 1, after bank.post" in words
    assert "there was no 'charge_fare-1/1'" in words
    assert "charge_ticket-1" in words

    def without_the_bank(rig: ic.Rig) -> None:
        kind = rig.job(lambda: None, name="charge_fare")
        rig.enqueue(kind.call())
        rig.run_dry()

    with pytest.raises(ic.ReplayError, match="charge_fare-1/1 passed start, ack"):
        replayed(double.token, without_the_bank)


def test_check_says_so_as_well(double: ic.Finding) -> None:
    rig = ic.Rig()
    rig.replay(double.token)
    with pytest.raises(ic.ReplayError, match="there was no"):
        rig.check(ic.laws.nothing_lost())


def test_an_error_of_the_story_is_not_hidden_by_it(double: ic.Finding) -> None:
    def fails(rig: ic.Rig) -> None:
        raise LookupError("its own")

    with pytest.raises(LookupError, match="its own"):
        replayed(double.token, fails)


@pytest.mark.parametrize("token", ["", "ic1-", "ic1-abc", "hello", None, "ic1-ePmVIIAHQxZK", "ic1-!!"])
def test_what_is_no_token(token: Any) -> None:
    with pytest.raises(ic.InputError, match=r"the replay token is|is damaged"):
        ic.Rig().replay(token)


def test_a_token_of_another_version() -> None:
    with pytest.raises(
        ic.InputError, match=r"'ic0-abc' is of version 0, and this Iron Clock reads version 1; search again"
    ):
        ic.Rig().replay("ic0-abc")
    token = Token(Plan((Move(Place("load-1/1", "start"), "melt"),)), (), {}, (), False, 3, "00ff10")
    with pytest.raises(ic.InputError, match="has the fault 'melt', which this Iron Clock does not know"):
        ic.Rig().replay(token.text())


def test_a_token_that_was_cut_is_damaged(double: ic.Finding) -> None:
    for length in range(5, len(double.token)):
        with pytest.raises(ic.InputError, match=r"damaged: .*; copy the whole of it"):
            ic.Rig().replay(double.token[:length])


def test_it_has_to_be_replayed_before_the_story(double: ic.Finding) -> None:
    rig = ic.Rig()
    rig.enqueue(rig.job(lambda: None, name="work").call())
    with pytest.raises(ic.RigStateError, match="before the first job"):
        rig.replay(double.token)


text = st.text(min_size=1, max_size=12)
moves = st.builds(
    Move,
    st.builds(Place, text, text, st.integers(1, 99)),
    st.sampled_from(["crash", "slow", "first", "fail_repeatedly", "outage"]),
    st.one_of(st.integers(0, 10**15), text),
    words=st.just(""),
)


@given(
    st.lists(moves, max_size=4), st.none() | text, st.none() | st.lists(text, max_size=3), st.lists(text, max_size=2)
)
def test_a_token_keeps_every_plan(made: Any, start: Any, kept: Any, lines: Any) -> None:
    plan = Plan(tuple(made), start, None if kept is None else tuple(kept))
    token = Token(plan, tuple(lines), {}, ("sql",), True, 3, "00ff10")
    assert read(token.text()) == token
    assert read(f"  {token.text()}\n") == token


def test_the_written_test_fails_until_the_story_is_mended(double: ic.Finding, pytester: pytest.Pytester) -> None:
    story = (
        "import ironclock as ic\n"
        "LAWS = [ic.laws.once_per_key('bank.post')]\n"
        "GUARDED = False\n"
        "def story(rig):\n"
        "    bank = rig.service(ic.services.Ledger('bank', idempotent=GUARDED))\n"
        "    def charge_fare(booking):\n"
        "        bank.post('passenger', 'fares', 180, key=booking)\n"
        "    kind = rig.job(charge_fare, retry=ic.Retry(4, '30s'))\n"
        "    rig.enqueue(kind.call('B-1'))\n"
        "    rig.run_dry()\n"
    )
    pytester.makepyfile(ferry_story=story)
    double.write_test(pytester.path / "test_found.py", "ferry_story:story", laws="LAWS", rig={"zone": "Atlantic/Faroe"})
    broken = pytester.runpytest_subprocess("test_found.py")
    broken.assert_outcomes(failed=1)
    broken.stdout.fnmatch_lines(["*bank.post of 'B-1' is done 2 times*"])
    pytester.makepyfile(ferry_story=story.replace("GUARDED = False", "GUARDED = True"))
    pytester.runpytest_subprocess("test_found.py").assert_outcomes(passed=1)


def test_a_path_that_cannot_be_written(double: ic.Finding) -> None:
    with pytest.raises(ic.IronClockError, match=r"cannot write /nonexistent/test_it\.py"):
        double.write_test("/nonexistent/test_it.py", "probed:charges")


def test_a_random_order_becomes_a_short_list_of_moves() -> None:
    options: dict[str, Any] = {"lines": "probed", "depth": 0, "faults": [], "preemptions": 0, "runs": 400}
    (found,) = ic.probe(partial(probed.counted, cars=3), probed.COUNTED, **options) or [None]
    assert found is None, "no order without an interruption loses a car"
    options["preemptions"] = 2
    found = ic.probe(
        partial(probed.counted, cars=6), [lambda w: [n for n in probed.all_counted(w) if n[0] in "123"]], **options
    )[0]
    assert found.plan.dice is None
    assert 1 <= len(found.plan.moves) <= 4


@pytest.mark.parametrize(("story", "laws", "lines"), [("counted", "COUNTED", "probed"), ("crossed", None, ())])
def test_the_rig_of_the_fixture_replays_as_well(story: str, laws: str | None, lines: Any) -> None:
    run = getattr(probed, story)
    checked = getattr(probed, laws) if laws else [ic.laws.no_deadlock()]
    found = ic.probe(run, checked, lines=lines, depth=0)
    rig = ic.Rig()
    with held(rig):  # as the fixture does
        rig.replay(found[0].token)
        run(rig)
    assert rig.history.digest() == found[0].digest
    with pytest.raises(ic.BrokenLaw):
        rig.check(*checked)
