"""`ironclock probe`: what it prints, writes, replays and refuses."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

STORY = """
import ironclock as ic

RIG = {"start": "2031-03-29T21:00", "zone": "Atlantic/Faroe"}
LAWS = [ic.laws.once_per_key("bank.post")]
NONE = [ic.laws.nothing_lost()]


def story(rig):
    bank = rig.service(ic.services.Ledger("bank"))

    def charge_fare(booking):
        bank.post("passenger", "fares", 180, key=booking)

    kind = rig.job(charge_fare, retry=ic.Retry(4, "30s"))
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "ferry_story.py").write_text(STORY)
    return tmp_path


def run(folder: Path, *arguments: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "ironclock.cli.main", "probe", *arguments]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)


def test_it_prints_what_it_found(folder: Path) -> None:
    done = run(folder, "ferry_story.py:story")
    assert done.returncode == 1, done.stderr
    assert done.stdout.startswith("✗ once_per_key: bank.post of 'B-1' is done 2 times\n  when\n")
    assert "21:00:00+00:00  charge_fare-1: attempt 1 starts on w1" in done.stdout, "RIG of the module counts"
    assert "single faults fit" in done.stdout
    assert "again: ironclock probe ferry_story.py:story --replay ic1-" in done.stdout
    assert done.stderr == ""


def test_nothing_found(folder: Path) -> None:
    done = run(folder, "ferry_story:story", "--laws", "NONE", "--depth", "1", "--no-orders")
    assert done.returncode == 0, done.stderr
    assert done.stdout.startswith("✓ nothing found\n")


def test_the_token_and_the_written_test_repeat_it(folder: Path) -> None:
    made = run(folder, "ferry_story.py:story", "--faults", "crash", "--write-test", "test_found.py", "--json")
    assert made.returncode == 1, made.stderr
    (found,) = json.loads(made.stdout)["findings"]
    assert found["moves"] == ["charge_fare-1, attempt 1, after bank.post: the worker dies"]
    again = run(folder, "ferry_story.py:story", "--replay", found["token"])
    assert again.returncode == 1
    assert found["story"] in again.stdout
    assert "✗ once_per_key:\n  bank.post of 'B-1' is done 2 times" in again.stdout
    assert "has changed" not in again.stdout
    tested = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "test_found.py"], cwd=folder, capture_output=True, text=True, check=False
    )
    assert "1 failed" in tested.stdout


def test_a_story_that_changed_is_told_from_where_on(folder: Path) -> None:
    token = json.loads(run(folder, "ferry_story.py:story", "--json").stdout)["findings"][0]["token"]
    changed = STORY.replace('"fares", 180', '"fares", 90')
    (folder / "ferry_story.py").write_text(changed)
    done = run(folder, "ferry_story.py:story", "--replay", token)
    assert "The story has changed since the token was made: it differs at entry 3." in done.stdout
    (folder / "ferry_story.py").write_text(STORY.replace("charge_fare", "charge_ticket"))
    done = run(folder, "ferry_story.py:story", "--replay", token)
    assert done.returncode == 2
    assert done.stderr.startswith("Error: the token no longer fits this story")


def test_a_test_written_elsewhere_finds_its_story(folder: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    elsewhere = tmp_path_factory.mktemp("elsewhere")
    run(folder, "ferry_story.py:story", "--write-test", str(elsewhere / "test_found.py"))
    tested = subprocess.run(
        [sys.executable, "-m", "pytest", "-q"], cwd=elsewhere, capture_output=True, text=True, check=False
    )
    assert "1 failed" in tested.stdout
    assert "done 2 times" in tested.stdout


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["story"], "the story is 'story'; give package.module:function or path/to/file.py:function"),
        (["nowhere.py:story"], "there is no file nowhere.py"),
        (["nowhere:story"], "the story's module nowhere cannot be imported: No module named 'nowhere'"),
        (["ferry_story:stroy"], "ferry_story has no function 'stroy'; did you mean 'story'?"),
        (["ferry_story:story", "--laws", "LAW"], "ferry_story has no 'LAW' with laws"),
        (["ferry_story:story", "--faults", "crash,explode"], "unknown kind of fault 'explode'"),
        (["ferry_story:story", "--takes", "poll"], "--takes is 'poll'; give NAME=SHORTEST..LONGEST"),
        (["ferry_story:story", "--replay", "ic1-x"], "the replay token 'ic1-x' is damaged"),
        (["ferry_story:story", "--write-test", "no/where.py"], "cannot write no/where.py"),
        (["ferry_story:story", "--zone", "Nowhere"], "zone 'Nowhere' is not in the tz database"),
    ],
)
def test_what_it_refuses(folder: Path, arguments: list[str], words: str) -> None:
    done = run(folder, *arguments)
    assert done.returncode == 2
    assert done.stderr.startswith(f"Error: {words}"), done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize(("processes", "number"), [("1", signal.SIGINT), ("2", signal.SIGINT), ("1", signal.SIGTERM)])
def test_ctrl_c_shows_what_was_found_so_far(folder: Path, processes: str, number: signal.Signals) -> None:
    command = [sys.executable, "-m", "ironclock.cli.main", "probe", "ferry_story:story", "--depth", "4"]
    command += ["--runs", "1000000", "--resume", "search.jsonl", "--processes", processes]
    pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
    process = subprocess.Popen(command, cwd=folder, text=True, start_new_session=True, **pipes)  # type: ignore[call-overload]
    kept = folder / "search.jsonl"
    while not kept.exists() or len(kept.read_text().splitlines()) < 15:
        assert process.poll() is None
        time.sleep(0.05)
    os.killpg(process.pid, number)  # a terminal tells the whole group
    out, err = process.communicate(timeout=60)
    assert process.returncode == 1, err
    assert "Traceback" not in err
    assert "✗ once_per_key" in out
    assert "because the search was interrupted" in out
    assert len(kept.read_text().splitlines()) > 10


def test_progress_is_for_terminals_alone(folder: Path) -> None:
    master, slave = os.openpty()
    command = [
        sys.executable,
        "-m",
        "ironclock.cli.main",
        "probe",
        "ferry_story:story",
        "--depth",
        "3",
        "--runs",
        "4000",
    ]
    process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=slave)
    os.close(slave)
    seen = b""
    try:
        while b"s left at most" not in seen and (chunk := os.read(master, 4096)):
            seen += chunk
    except OSError:  # the other end is closed
        pass
    process.kill()
    process.wait()
    os.close(master)
    assert b"of 4,000 runs," in seen
    assert b"a second," in seen
    assert b"s left at most" in seen
