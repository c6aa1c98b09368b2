"""Payload contracts: jobs that older code enqueued, and newer workers; in real pytest runs and alone."""

from __future__ import annotations

import json
from typing import Any

import jsonschema
import pytest

OLD = """
    from typing import Literal
    def charge(booking: str, seats: int = 1, *, deck="car"):
        pass
"""
CALLS = 'rig.enqueue(job.call("B-1", 2)); rig.enqueue(job.call("B-2", deck="open"))'


def run(pytester: pytest.Pytester, code: str, calls: str = CALLS, *options: str) -> pytest.RunResult:
    pytester.makepyfile(
        fares=code,
        test_fares=f"""
        import datetime as dt
        import fares
        def test_fares(rig):
            job = rig.job(fares.charge)
            {calls}
            rig.run_dry()
        """,
    )
    pytester.syspathinsert()
    return pytester.runpytest("--ironclock-payloads", "payloads.json", *options)


def test_the_file_is_a_json_schema_that_keeps_one_sample_of_each_shape(pytester: pytest.Pytester) -> None:
    result = run(pytester, OLD)
    assert result.ret == pytest.ExitCode.OK
    result.stdout.fnmatch_lines(["payloads.json: written, with the payloads of 1 jobs; commit it"])
    text = (pytester.path / "payloads.json").read_text()
    held = json.loads(text)
    jsonschema.Draft202012Validator.check_schema(held)
    contract = jsonschema.Draft202012Validator({**held, "$ref": "#/$defs/charge"})
    assert contract.is_valid({"args": ["C-9", 7], "kwargs": {}})
    assert contract.is_valid({"args": ["C-9"], "kwargs": {"deck": "open"}})
    assert not contract.is_valid({"args": [9], "kwargs": {}})
    assert "B-1" not in text  # types, and not values
    again = run(pytester, OLD)
    again.stdout.fnmatch_lines(["payloads.json: nothing has changed"])
    assert (pytester.path / "payloads.json").read_text() == text


CHANGES = {
    "renamed": (
        'def charge(booking: str, seats: int = 1, *, place="car"): pass',
        'rig.enqueue(job.call("B-1", 2)); rig.enqueue(job.call("B-2", place="open"))',
        [
            "charge no longer accepts what older code enqueues: charge(text, deck=text): it has no parameter 'deck'; "
            "its parameters are booking, seats, place",
            "charge is enqueued with what older workers do not accept: charge(text, place=text): it has no parameter "
            "'place'",
        ],
    ),
    "removed": (
        "def charge(booking: str): pass",
        'rig.enqueue(job.call("B-1"))',
        [
            "no longer accepts what older code enqueues: charge(text, whole number): it takes 1 positional argument, "
            "and 2 are given",
            "no longer accepts what older code enqueues: charge(text, deck=text): it has no parameter 'deck'",
        ],
    ),
    "retyped with an annotation": (
        'def charge(booking: int, seats: int = 1, *, deck="car"): pass',
        "rig.enqueue(job.call(1, 2)); rig.enqueue(job.call(2, deck='open'))",
        [
            "no longer accepts what older code enqueues: charge(text, whole number): 'booking' is text, and must be "
            "whole number",
            "enqueued with what older workers do not accept: charge(whole number, whole number): 'booking' is whole "
            "number, and must be text",
        ],
    ),
    "retyped without one": (
        "def charge(booking: str, seats: int = 1, *, deck=1): pass",
        'rig.enqueue(job.call("B-1", 2)); rig.enqueue(job.call("B-2", deck=4))',
        [
            "no longer accepts what older code enqueues: charge(text, deck=text): 'deck' is text, where it gets whole "
            "number",
            "enqueued with what older workers do not accept: charge(text, deck=whole number): 'deck' is whole number, "
            "where it gets text",
        ],
    ),
    "a new parameter that must be given": (
        'def charge(booking: str, seats: int = 1, *, office, deck="car"): pass',
        'rig.enqueue(job.call("B-1", 2, office="a"))',
        ["no longer accepts what older code enqueues: charge(text, whole number): its parameter 'office' is not given"],
    ),
    "structure": (
        'def charge(booking: list[str], seats: int = 1, *, deck="car"): pass',
        'rig.enqueue(job.call(["B-1"], 2)); rig.enqueue(job.call(["B-2"], deck="open"))',
        ["charge(text, whole number): 'booking' is text, and must be list of text"],
    ),
}


@pytest.mark.parametrize("change", CHANGES)
def test_a_change_that_jobs_in_flight_do_not_survive(pytester: pytest.Pytester, change: str) -> None:
    run(pytester, OLD)
    before = (pytester.path / "payloads.json").read_text()
    code, calls, says = CHANGES[change]
    result = run(pytester, f"    {code}", calls)
    assert result.ret == pytest.ExitCode.TESTS_FAILED
    result.assert_outcomes(passed=1)
    for words in says:
        assert words in result.stdout.str(), words
    assert (pytester.path / "payloads.json").read_text() == before
    result.stdout.fnmatch_lines(["payloads.json: left as it is; change the code, or, *--ironclock-approve"])
    approved = run(pytester, f"    {code}", calls, "--ironclock-approve")
    assert approved.ret == pytest.ExitCode.OK
    assert run(pytester, f"    {code}", calls).ret == pytest.ExitCode.OK


FINE = {
    "nothing": (OLD, CALLS),
    "a renamed parameter that is given by position": (
        "    def charge(number: str, seats: int = 1, *, deck='car'): pass", CALLS,
    ),
    "another parameter with a default": ("    def charge(booking: str, seats=1, office='', *, deck='car'): pass", CALLS),
    "a wider annotation": ("    def charge(booking: str | int, seats: float = 1, *, deck='car'): pass", CALLS),
    "any arguments": ("    def charge(*args, **kwargs): pass", CALLS),
    "None as well": (OLD, f"{CALLS}; rig.enqueue(job.call('B-3', deck=None))"),
    "fewer shapes": (OLD, 'rig.enqueue(job.call("B-1"))'),
    "a literal": ("    from typing import Literal\n    def charge(booking: str, seats=1, *, "
                  "deck: Literal['car', 'open'] = 'car'): pass", CALLS),
}  # fmt: skip


@pytest.mark.parametrize("change", FINE)
def test_a_change_that_jobs_in_flight_survive(pytester: pytest.Pytester, change: str) -> None:
    run(pytester, OLD)
    held = json.loads((pytester.path / "payloads.json").read_text())
    result = run(pytester, *FINE[change])
    assert result.ret == pytest.ExitCode.OK, result.stdout.str()
    now = json.loads((pytester.path / "payloads.json").read_text())
    older, newer = held["$defs"]["charge"]["anyOf"], now["$defs"]["charge"]["anyOf"]
    assert all(shape in newer for shape in older)  # no shape is forgotten


def test_jobs_that_are_new_or_not_seen_are_named(pytester: pytest.Pytester) -> None:
    run(pytester, OLD)
    pytester.makepyfile(
        test_fares="""
        def test_other(rig):
            def sail(): pass
            rig.enqueue(rig.job(sail).call()); rig.run_dry()
        """
    )
    result = pytester.runpytest("--ironclock-payloads", "payloads.json")
    assert result.ret == pytest.ExitCode.OK
    result.stdout.fnmatch_lines(
        ["new jobs, which older workers do not know: sail", "not enqueued in this run: charge; if such a job was *"]
    )
    assert json.loads((pytester.path / "payloads.json").read_text())["$defs"].keys() == {"charge", "sail"}


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("{", "payloads.json is not a file of payloads (JSONDecodeError: "),
        ("[]", "payloads.json is not a file of payloads (TypeError: "),
        ('{"$defs": {"charge": {"anyOf": [3]}}}', "payloads.json is not a file of payloads (TypeError: "),
        ('{"$defs": {"charge": {}}}', "payloads.json is not a file of payloads (KeyError: 'anyOf')"),
    ],
)
def test_a_file_that_is_broken_is_left_alone(pytester: pytest.Pytester, text: str, says: str) -> None:
    (pytester.path / "payloads.json").write_text(text)
    result = run(pytester, OLD)
    assert result.ret == pytest.ExitCode.USAGE_ERROR
    assert says in result.stderr.str()
    assert "restore it, or delete it and let the next run write it anew" in result.stderr.str()
    assert (pytester.path / "payloads.json").read_text() == text


def test_a_folder_that_is_missing(pytester: pytest.Pytester) -> None:
    pytester.makepyfile("def test_nothing(): pass")
    result = pytester.runpytest("--ironclock-payloads", "nowhere/payloads.json")
    assert result.ret == pytest.ExitCode.USAGE_ERROR
    assert "there is no folder nowhere for the file of payloads; make it" in result.stderr.str()


def test_processes_of_a_parallel_run(pytester: pytest.Pytester) -> None:
    pytest.importorskip("xdist")
    calls = 'rig.enqueue(job.call("B-1"))'
    pytester.makepyfile(
        fares=OLD,
        test_fares=f"""
        import fares, pytest
        @pytest.mark.parametrize("seats", [None, 2, 2.5, "two"])
        def test_fares(rig, seats):
            def board(seats): pass
            rig.enqueue(rig.job(board).call(seats))
            job = rig.job(fares.charge)
            {calls}
            rig.run_dry()
        """,
    )
    pytester.syspathinsert()
    assert pytester.runpytest_subprocess("-n", "2", "--ironclock-payloads", "payloads.json").ret == 0
    held: dict[str, Any] = json.loads((pytester.path / "payloads.json").read_text())["$defs"]
    assert len(held["board"]["anyOf"]) == 4
    assert len(held["charge"]["anyOf"]) == 1
