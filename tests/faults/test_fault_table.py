"""Each kind of fault, on each way in which a job can run: it strikes, or it does not fit and says why."""

from __future__ import annotations

import contextlib
import re
import sys
from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic
from ironclock.search.fault_model import FaultModel
from ironclock.search.plan import Move, Plan
from ironclock.search.runs import SearchedStory

sys.path.append(str(Path(__file__).parent))
from fault_ways import WAYS

PAGE = Path(__file__).parents[2] / "docs" / "faults.md"
PLACED: dict[str, Callable[[ic.Rig], ic.Fault]] = {
    "fail": lambda rig: rig.faults.fail("charge", attempts=1),
    "crash": lambda rig: rig.faults.crash("charge", attempts=1),
    "hang": lambda rig: rig.faults.hang("charge", attempts=1),
    "slow": lambda rig: rig.faults.slow("charge", by="7s", attempts=1),
    "deliver_twice": lambda rig: rig.faults.deliver_twice("charge", attempts=1),
    "lose_ack": lambda rig: rig.faults.lose_ack("charge", attempts=1),
    "delay": lambda rig: rig.faults.delay("charge", by="7s", attempts=1),
    "refuse_enqueue": lambda rig: rig.faults.refuse_enqueue("receipt", calls=1),
}
IN_CODE: dict[str, Callable[[ic.Rig], ic.Fault]] = {
    "fail": lambda rig: rig.faults.fail("charge", at="before charge", attempts=1),
    "crash": lambda rig: rig.faults.crash("charge", at="after charge", attempts=1),
    "slow": lambda rig: rig.faults.slow("charge", by="7s", at="before charge", attempts=1),
}
TRIED = (*PLACED, "fail_repeatedly", "outage", "other_version")


def table() -> dict[str, dict[str, str]]:
    """Return the table of the page: by kind and way, what is in the cell."""
    lines = [line for line in PAGE.read_text(encoding="utf-8").splitlines() if line.startswith("| ")]
    heads = [cell.strip() for cell in lines[0].strip("|").split("|")][1:]
    rows = {}
    for line in lines[1:]:
        name, *cells = (cell.strip() for cell in line.strip("|").split("|"))
        rows[name.strip("`")] = dict(zip(heads, cells, strict=True))
    return rows


def story_of(way: str) -> Callable[[ic.Rig], None]:
    return WAYS[way]  # type: ignore[return-value]


def tried_moves(way: str) -> tuple[SearchedStory, dict[str, list[Move]]]:
    """Return what a search tries on the job, by kind of fault."""
    searched = SearchedStory(story_of(way), (), FaultModel())
    moves: dict[str, list[Move]] = {}
    for place, fitting in searched.run(Plan(), notes_seams=True).seams:
        for move in fitting:
            if place.who.startswith("charge-"):
                moves.setdefault(move.kind, []).append(move)
    return searched, moves


def some_of(ways: Iterable[str], step: int) -> list[Any]:
    """Return the ways as parameters: one of so many in every run, the others in the exhaustive one."""
    return [pytest.param(way, marks=() if n % step == 0 else pytest.mark.exhaustive) for n, way in enumerate(ways)]


def test_the_table_has_every_way_and_every_kind() -> None:
    rows = table()
    assert set(rows) == set(TRIED)
    assert all(set(cells) == set(WAYS) for cells in rows.values())


@pytest.mark.parametrize("way", some_of(WAYS, 3))
def test_whatever_a_search_tries_strikes(way: str) -> None:
    """Every fault that fits is made, and the run is another one with it."""
    searched, moves = tried_moves(way)
    with searched.playing(Plan()) as plain:
        usual = plain.rig.history.digest()
        assert [job.state for job in plain.rig.jobs("charge")] == ["done"]
    for of_kind in moves.values():
        for move in of_kind[:1]:
            with searched.playing(Plan((move,))) as played:
                assert move in played.control.done, move
                assert played.rig.history.digest() != usual, move
    known = {kind for kind, cells in table().items() if cells[way] in ("yes", "inside")}
    assert set(moves) & set(TRIED) == known


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("kind", PLACED)
def test_a_placed_fault_strikes_or_says_why_not(way: str, kind: str) -> None:
    placed: list[ic.Fault] = []
    with ic.Rig() as rig:
        if way in ("watched rows", "a loop with a handler"):
            rig.allow("unknown names")
        with contextlib.suppress(ic.JobsLeftOpen):  # one that hangs without a timeout
            WAYS[way](rig, lambda rig: placed.append(PLACED[kind](rig)))
        (fault,) = placed
        cell = table()[kind][way]
        if cell in ("yes", "placed only"):
            assert fault.struck, rig.history.story()
            assert rig.jobs("charge"), "the job is there"
        else:
            (line,) = [line for line in rig.loose_ends() if "struck 0 times" in line]
            assert not fault.struck
            assert ("own queue delivers it" if cell == "no" else "rig.handler") in line, line
    rig.close()


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("kind", IN_CODE)
def test_a_fault_inside_the_code_strikes_in_every_way(way: str, kind: str) -> None:
    placed: list[ic.Fault] = []
    with ic.Rig() as rig:
        WAYS[way](rig, lambda rig: placed.append(IN_CODE[kind](rig)))
        assert placed[0].struck
        (job,) = rig.jobs("charge")
        assert job.state == "done" or (way == "a collector" and kind == "fail"), "it was tried again"
        crashed = [attempt.outcome for attempt in job.attempts].count("crashed")
        assert crashed == (kind == "crash")
    rig.close()


@pytest.mark.parametrize("kind", ["deliver_twice", "lose_ack"])
@pytest.mark.parametrize("way", some_of([way for way in WAYS if way != "watched rows"], 3))
def test_a_charge_without_a_key_is_convicted_in_every_way(way: str, kind: str) -> None:
    found = ic.probe(story_of(way), ic.laws.once_per_key("charge"), faults=[kind], runs=60, first=True, orders=False)
    assert found, found


class Stumble(ic.FaultKind):
    """A kind of fault that comes from outside the package: all of it is here."""

    name = "stumble"
    words = "it stumbles for {by}"
    seams = frozenset({"start", "ack"})
    needs = frozenset({"crash"})
    is_timed = True
    cell = "worker dies"
    excuses = frozenset({"attempts_at_most"})
    place_words = "stumble for {by}"

    def strike(self, passing: ic.Passing, strike: ic.Strike) -> None:
        passing.crash(strike)

    def amounts(self, passing: Any, tried: Any, passed: int) -> tuple[int, ...]:
        return (3_000_000_000,)


@pytest.mark.parametrize("way", some_of([way for way in WAYS if way != "watched rows"], 3))
def test_a_kind_from_outside_needs_one_class(way: str) -> None:
    placed: list[ic.Fault] = []
    with ic.Rig() as rig:
        WAYS[way](rig, lambda rig: placed.append(rig.faults.place(Stumble(), "charge", at="ack", by="3s", attempts=1)))
        (fault,) = placed
        assert (fault.kind, fault.struck) == ("stumble", 1)
        assert repr(fault) == "<fault stumble for 3s charge: struck 1 time>"
        assert [attempt.outcome for attempt in rig.jobs("charge").one().attempts] == ["crashed", "done"]
    rig.close()
    laws = [ic.laws.once_per_key("charge"), ic.laws.attempts_at_most("charge", 1)]
    found = ic.probe(story_of(way), laws, faults=[Stumble()], runs=8, orders=False)
    assert [finding.law for finding in found] == ["once_per_key"], "the other law is excused"
    assert "charge-1, attempt 1, ack: it stumbles for 3s" in str(found)
    assert found.coverage.tried >= 2


@pytest.mark.parametrize(("call", "words"), [
    (lambda rig: rig.faults.place("stumble"), "give an object of a kind of fault"),
    (lambda rig: rig.faults.place(Stumble(), at="before charge"), "stumble fits at ack, start"),
    (lambda rig: rig.faults.place(Stumble(), by="soon"), "soon"),
])  # fmt: skip
def test_what_is_no_kind_is_refused(call: Any, words: str) -> None:
    with ic.Rig() as rig, pytest.raises(ic.InputError, match=re.escape(words)):
        call(rig)


def test_an_unknown_kind_in_a_search_is_refused() -> None:
    with pytest.raises(ic.InputError, match="unknown kind of fault 'stumble'"):
        ic.probe(partial(WAYS["the rig's workers"]), ic.laws.once_per_key("charge"), faults=["stumble"])
