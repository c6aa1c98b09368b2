"""Who does the runs: processes, executors, a cluster; deaths, interrupts, and going on from a file."""

from __future__ import annotations

import json
import multiprocessing
import os
import re
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import probed
import pytest

import ironclock as ic

TESTS = str(Path(__file__).parents[1])
SMALL: dict[str, Any] = {"runs": 100}


def alike(found: ic.Findings) -> Any:
    coverage = {name: value for name, value in vars(found.coverage).items() if name != "notes"}
    return [(one.law, one.words, one.token, one.digest, one.at_run, one.also) for one in found], coverage


@pytest.fixture(scope="module")
def here() -> Any:
    return alike(ic.probe(probed.charges, probed.LAWS, **SMALL))


def spawned() -> Executor:
    return ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn"))


@pytest.mark.parametrize("made", [lambda: ThreadPoolExecutor(3), spawned], ids=["threads", "spawned processes"])
def test_the_findings_are_the_same_whoever_does_the_runs(made: Callable[[], Executor], here: Any) -> None:
    with made() as executor:
        assert alike(ic.probe(probed.charges, probed.LAWS, executor=executor, **SMALL)) == here


def test_processes_of_its_own(here: Any) -> None:
    assert alike(ic.probe(probed.charges, probed.LAWS, processes=2, **SMALL)) == here


def test_lines_are_switch_points_in_other_processes_too() -> None:
    options: dict[str, Any] = {"lines": "probed", "depth": 0, "faults": []}
    alone = ic.probe(probed.counted, probed.COUNTED, **options)
    with spawned() as executor:
        assert alike(ic.probe(probed.counted, probed.COUNTED, executor=executor, **options)) == alike(alone)


def test_a_story_that_cannot_travel_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(sys.modules, "cloudpickle", None)
    lock = threading.Lock()

    def story(rig: ic.Rig) -> None:
        lock.locked()

    with spawned() as executor, pytest.raises(ic.InputError, match="cannot be sent to another process"):
        ic.probe(story, executor=executor)


def test_a_process_that_dies_loses_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    mark = tmp_path / "died"
    monkeypatch.setenv("IRONCLOCK_TEST_MARK", str(mark))
    died = ic.probe(probed.deadly, [], processes=2, **SMALL)
    assert mark.exists(), "it did die"
    assert alike(died) == alike(ic.probe(probed.deadly, [], **SMALL))
    mark.unlink()
    with spawned() as executor:
        alone = ic.probe(probed.deadly, [], executor=executor, **SMALL)
    assert alike(alone) == alike(died), "where no other executor can be made, this process goes on"


def test_a_run_that_kills_every_process_is_named() -> None:
    with pytest.raises(ic.IronClockError, match=r"the story ends its process when \S.*; a run must not do that"):
        ic.probe(probed.fatal, [], processes=2, **SMALL)


@pytest.mark.parametrize(
    ("end", "said"),
    [
        (lambda: os._exit(3), "os._exit(3)"), (lambda: os._exit(status=4), "os._exit(4)"), (os.abort, "os.abort()"),
        (lambda: os.kill(os.getpid(), signal.SIGKILL), "os.kill with SIGKILL"),
    ],
)  # fmt: skip
def test_code_that_ends_its_process_ends_its_worker(end: Callable[[], None], said: str) -> None:
    """In a job it is the worker that dies. A story that does so itself is refused."""

    def story(rig: ic.Rig) -> None:
        mail = rig.service(ic.services.Mail())

        def work() -> None:
            try:
                mail.send("ina", "hello")
            except ConnectionError:
                end()

        rig.enqueue(rig.job(work, retry=ic.Retry(3), deliveries=5).call())
        rig.run_dry()

    (found,) = ic.probe(story, _no_death(said), depth=1, faults=["fail"])
    assert found.moves == ("work-1, attempt 1, before mail.send: an error",)
    with pytest.raises(
        ic.InputError, match=f"before it comes to a seam: RigStateError: the story calls {re.escape(said)}"
    ):
        ic.probe(lambda rig: end())


def _no_death(said: str) -> Any:
    return lambda world: [str(e) for e in world.entries if e.what == "crashed" and said in str(e)]


def test_a_story_that_exits_is_refused() -> None:
    with pytest.raises(ic.InputError, match=r"the story raises an error .*: SystemExit: 4"):
        ic.probe(lambda rig: sys.exit(4))


@pytest.fixture
def cluster(monkeypatch: pytest.MonkeyPatch) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """A real scheduler and two worker processes on loopback."""
    pytest.importorskip("distributed")
    import dask

    port = 18786 + os.getpid() % 1000
    # Who asks a dead worker for its results waits for this long before they are made again.
    monkeypatch.setenv("DASK_DISTRIBUTED__COMM__TIMEOUTS__CONNECT", "5s")
    dask.config.refresh()
    env = {**os.environ, "PYTHONPATH": os.pathsep.join([TESTS, str(Path(TESTS).parent / "examples")])}
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "env": env, "cwd": TESTS}
    scheduler = [sys.executable, "-m", "distributed.cli.dask_scheduler", "--host", "127.0.0.1"]
    started = [subprocess.Popen([*scheduler, "--port", str(port), "--no-dashboard"], **quiet)]  # type: ignore[call-overload]
    address = f"tcp://127.0.0.1:{port}"
    worker = [sys.executable, "-m", "distributed.cli.dask_worker", address, "--host", "127.0.0.1", "--no-nanny"]
    for _ in range(2):
        started.append(subprocess.Popen([*worker, "--nthreads", "1", "--no-dashboard"], **quiet))  # type: ignore[call-overload]
    from distributed import Client

    try:
        with Client(address, timeout="60s", set_as_default=False) as client:
            client.wait_for_workers(2, timeout=60)
        yield address, started
    finally:
        for process in reversed(started):
            process.kill()
            process.wait()


@pytest.mark.exhaustive
def test_a_cluster_one_of_whose_workers_is_killed(cluster: tuple[str, list[subprocess.Popen[bytes]]]) -> None:
    address, processes = cluster
    story = partial(probed.charges, bookings=6)
    alone = ic.probe(story, probed.LAWS, runs=600)
    killed: list[int] = []

    def kill(progress: ic.Progress) -> None:
        if not killed:
            killed.append(progress.runs)
            processes[2].kill()
            processes[2].wait()

    found = ic.probe(story, probed.LAWS, runs=600, cluster=address, progress=kill)
    assert 0 < killed[0] < 600, "one was killed in the middle of the search"
    assert alike(found) == alike(alone)


def test_no_cluster_there() -> None:
    with pytest.raises(ic.InputError, match="more than one of executor, processes and cluster is given; give one"):
        ic.probe(probed.sound, cluster="tcp://127.0.0.1:9", processes=2)


def interrupting(at: int) -> Callable[[ic.Progress], None]:
    def interrupt(progress: ic.Progress) -> None:
        if progress.runs >= at:
            os.kill(os.getpid(), signal.SIGINT)
            time.sleep(0)

    return interrupt


def test_an_interrupt_ends_the_search_with_what_was_found() -> None:
    found = ic.probe(probed.charges, probed.LAWS, runs=100_000, depth=3, progress=interrupting(150))
    assert found.coverage.interrupted
    assert 150 <= found.coverage.runs < 10_000
    assert [one.law for one in found] == ["once_per_key"]
    assert "because the search was interrupted" in str(found)


def test_a_search_goes_on_from_its_file(tmp_path: Path) -> None:
    options: dict[str, Any] = {"runs": 300, "depth": 3}
    whole = ic.probe(probed.charges, probed.LAWS, **options)
    path = tmp_path / "search.jsonl"
    ic.probe(probed.charges, probed.LAWS, resume=path, progress=interrupting(80), **options)
    begun = len(path.read_text().splitlines())
    assert 80 <= begun < 300
    path.write_text(path.read_text()[:-2])  # it died while it wrote its last line
    asked: list[int] = []
    again = ic.probe(probed.charges, probed.LAWS, resume=path, progress=lambda p: asked.append(p.runs), **options)
    assert alike(again) == alike(whole)
    assert f"{begun - 2} of the runs were taken from" in str(again)
    assert len(path.read_text().splitlines()) == 300
    finished = ic.probe(probed.charges, probed.LAWS, resume=path, **options)
    assert alike(finished) == alike(whole)


def test_a_file_of_another_search(tmp_path: Path) -> None:
    path = tmp_path / "search.jsonl"
    ic.probe(probed.charges, probed.LAWS, resume=path, runs=30)
    with pytest.raises(ic.IronClockError, match="is another search: its story differ"):
        ic.probe(partial(probed.charges, bookings=3), probed.LAWS, resume=path, runs=30)
    with pytest.raises(ic.IronClockError, match="its scope differ"):
        ic.probe(probed.charges, probed.LAWS, resume=path, runs=40)
    path.write_text(json.dumps({"format": "something"}) + "\n")
    with pytest.raises(ic.IronClockError, match="is not a saved search"):
        ic.probe(probed.charges, probed.LAWS, resume=path, runs=30)


def test_progress_has_a_rate_and_the_time_left() -> None:
    seen: list[ic.Progress] = []
    ic.probe(probed.charges, probed.LAWS, runs=900, progress=seen.append)
    assert seen
    last = seen[-1]
    assert 0 < last.runs <= last.most == 900
    assert last.rate > 0
    assert last.left_s == pytest.approx((last.most - last.runs) / last.rate)
    assert last.broken == 1
