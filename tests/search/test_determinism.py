"""Stories that are not the same each time are refused, with the first difference and its likely cause."""

from __future__ import annotations

import os
import random
import secrets
import subprocess
import sys
import time
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic

COUNTER: list[int] = []
CACHE: dict[str, str] = {}


def job_of(work: Callable[[], Any]) -> Callable[[ic.Rig], None]:
    def story(rig: ic.Rig) -> None:
        rig.enqueue(rig.job(work, name="reserve").call())
        rig.run_dry()

    return story


def count() -> int:
    COUNTER.append(1)
    return len(COUNTER)


def cached() -> str:
    return CACHE.get("seat") or (CACHE.setdefault("seat", "1A") and "fresh")


@pytest.mark.parametrize(
    ("story", "cause"),
    [
        (job_of(lambda: random.random()), "the generator of the module `random`"),
        (job_of(lambda: os.urandom(4).hex()), "real randomness from os.urandom"),
        (job_of(lambda: secrets.token_hex(4)), "real randomness from os.urandom"),
        (job_of(lambda: str(uuid.uuid4())), r"uuid\.uuid4\(\), at .*test_determinism\.py:\d+ in"),
        (job_of(lambda: random.Random().random()), r"a random\.Random\(\) without a seed, at .*test_determinism\.py:\d+"),
        (job_of(lambda: time.clock_gettime(time.CLOCK_MONOTONIC)), r"the real clock through time\.clock_gettime, at"),
        (job_of(count), "something that the first run left behind"),
        (job_of(cached), "something that the first run left behind"),
    ],
)  # fmt: skip
def test_the_cause_is_named(story: Any, cause: str) -> None:
    COUNTER.clear()
    CACHE.clear()
    with pytest.raises(ic.NotDeterministic, match=cause) as caught:
        ic.probe(story)
    assert "the first difference: entry 3 is" in str(caught.value)


def test_a_file_that_an_earlier_run_wrote(tmp_path: Path) -> None:
    path = tmp_path / "count"

    def work() -> int:
        number = int(path.read_text()) + 1 if path.exists() else 1
        path.write_text(str(number))
        return number

    with pytest.raises(ic.NotDeterministic, match=f"a file that an earlier run wrote: {path}"):
        ic.probe(job_of(work))


@pytest.mark.parametrize("guard", ["", "if __name__ == '__main__':\n    "], ids=["a bare script", "a guarded one"])
def test_hash_order_shows_in_another_process(tmp_path: Path, guard: str) -> None:
    script = tmp_path / "script.py"
    script.write_text(
        "import ironclock as ic\n"
        "def story(rig):\n"
        "    rig.enqueue(rig.job(lambda: ','.join({'red', 'blue', 'grey', 'green'}), name='cars').call())\n"
        "    rig.run_dry()\n"
        f"{guard}ic.probe(story)\n"
    )
    seen = set()
    for seed in "234":
        env = {**os.environ, "PYTHONHASHSEED": seed}
        done = subprocess.run([sys.executable, str(script)], env=env, capture_output=True, text=True, check=False)
        seen.add(done.stderr.strip().splitlines()[-1] if done.returncode else "")
    assert (
        "  the likely cause: hash order: what the story does follows the order of a set of texts; sort the set" in seen
    )


def test_a_steady_story_that_only_seems_to_draw_lots() -> None:
    def work() -> float:
        return random.Random(7).random() + len(str(uuid.UUID(int=7)))

    assert not ic.probe(job_of(work), depth=1)


def test_a_law_that_raises_is_told_from_one_that_fails() -> None:
    def broken(world: ic.laws.World) -> list[str]:
        return [{}[entry.what] for entry in world.history if entry.what == "crashed"]

    def failing(world: ic.laws.World) -> list[str]:
        assert not any(entry.what == "crashed" for entry in world.history), "somebody died"
        return []

    story = job_of(lambda: None)
    with pytest.raises(ic.LawError) as caught:
        ic.probe(story, broken)
    assert "the law broken raised KeyError: 'crashed' (at search/test_determinism.py:" in str(caught.value)
    assert "It happened when reserve-1, attempt 1, start: the worker dies" in str(caught.value)
    (found,) = ic.probe(story, failing)
    assert (found.law, found.words.split("\n")[0]) == ("failing", "somebody died")
    with pytest.raises(ic.LawError, match="It happened when nothing goes wrong"):
        ic.probe(story, lambda world: 1 / 0)  # type: ignore[arg-type, return-value]


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"runs": 0}, "runs is 0; give a whole number, at least 1"),
        ({"depth": -1}, "depth is -1"),
        ({"preemptions": True}, "preemptions is True"),
        ({"faults": ["crsh"]}, "unknown kind of fault 'crsh'; did you mean 'crash'?"),
        ({"lines": "nope.jobs"}, "'nope.jobs', which cannot be imported"),
        ({"durations": {"poll": "1s"}}, r"the duration of 'poll' is '1s'; give a pair, \(shortest, longest\)"),
        ({"durations": {"poll": ("2s", "1s")}}, "ends at '1s', below its start '2s'"),
        ({"starts": ["easter"]}, "unknown start 'easter'; known: clock change"),
        ({"executor": 3}, r"executor is 3; give a concurrent\.futures\.Executor"),
        ({"processes": 0}, "processes is 0"),
        ({"laws": [3]}, "the law is 3; give ic.laws.once_per_key"),
        ({"errors": {"mail.send": 3}}, "error is 3; give an exception or its class"),
        ({"rig": {"zone": "Nowhere"}}, "zone 'Nowhere' is not in the tz database"),
        ({"resume": "/nonexistent/search"}, "cannot write /nonexistent/search"),
        ({"slow": "fast"}, "slow 'fast' cannot be read at 'fast'"),
    ],
)  # fmt: skip
def test_what_cannot_be_used(options: dict[str, Any], words: str) -> None:
    with pytest.raises(ic.IronClockError, match=words):
        ic.probe(job_of(lambda: None), **options)


def test_it_is_called_outside_of_rigs() -> None:
    with ic.Rig(), pytest.raises(ic.RigStateError, match="the probe makes its own rigs"):
        ic.probe(job_of(lambda: None))
    with pytest.raises(ic.InputError, match="give a function that gets a rig"):
        ic.probe("story")  # type: ignore[arg-type]


def test_a_story_that_raises_by_itself_is_searched_all_the_same() -> None:
    def story(rig: ic.Rig) -> None:
        job_of(lambda: None)(rig)
        raise ValueError("always")

    found = ic.probe(story, ic.laws.nothing_lost(), depth=1)
    assert not found
    assert (
        "the story itself raises an error, without a fault: ValueError: always (at search/test_determinism.py:"
        in str(found)
    )
