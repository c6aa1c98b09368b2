"""The suite of known mistakes: each is found, and its fixed twin is spared. `make bench` takes 1,000 runs each."""

from __future__ import annotations

import sys
from functools import partial
from pathlib import Path

import pytest

ROOT = str(Path(__file__).parents[2])
if ROOT not in sys.path:
    sys.path.append(ROOT)

from benchmarks.mistakes import MISTAKES, Mistake  # noqa: E402
from benchmarks.mistakes.looped import LOOPED, on_worker_loops  # noqa: E402


def test_there_are_enough_of_them() -> None:
    assert len({mistake.name for mistake in MISTAKES}) == len(MISTAKES) >= 24


SLOW = (pytest.mark.exhaustive, pytest.mark.slow)


@pytest.mark.parametrize("mistake", [
    pytest.param(one, id=one.name, marks=SLOW if one.name in LOOPED else () if number % 4 == 1 else pytest.mark.exhaustive)
    for number, one in enumerate(MISTAKES)
])  # fmt: skip
def test_it_is_found_and_its_twin_is_spared(mistake: Mistake) -> None:
    assert mistake.story.__doc__
    found = mistake.probe(mistake.bug, runs=1_000, first=True)
    assert found, found
    assert found.coverage.shrinking < 200
    assert not mistake.probe(mistake.fix, runs=120 if mistake.name in LOOPED else 25)


@pytest.mark.parametrize("mistake", [
    pytest.param(one, id=one.name, marks=() if number < 1 else SLOW)
    for number, one in enumerate(one for one in MISTAKES if one.name in LOOPED)
])  # fmt: skip
def test_it_is_found_on_worker_loops_as_well(mistake: Mistake) -> None:
    """The same story, with a queue and worker loops of its own in place of the rig's workers."""
    assert mistake.probe(partial(on_worker_loops, mistake, False), runs=400, first=True)
    assert not mistake.probe(partial(on_worker_loops, mistake, True), runs=15)
