"""Tasks that wait for one another: named at once, wherever they wait; and waits that only look like that."""

from __future__ import annotations

import concurrent.futures as futures
import queue
import threading
import time
from collections.abc import Callable

import pytest

import ironclock as ic


def own_pool(rig: ic.Rig) -> None:
    pool = futures.ThreadPoolExecutor(1)
    rig.enqueue(lambda: pool.submit(lambda: pool.submit(int).result()).result())


def full_pool(rig: ic.Rig) -> None:
    pool = futures.ThreadPoolExecutor(2)

    def outer() -> int:
        time.sleep(1)
        return sum(pool.map(int, range(3)))

    rig.enqueue(lambda: [one.result() for one in [pool.submit(outer) for _ in range(2)]])


def pool_with_wait(rig: ic.Rig) -> None:
    pool = futures.ThreadPoolExecutor(2)

    def outer() -> None:
        time.sleep(1)
        futures.wait([pool.submit(int) for _ in range(3)])

    rig.enqueue(lambda: list(futures.as_completed([pool.submit(outer) for _ in range(2)])))


def threads_that_join(_: ic.Rig) -> None:
    threads: list[threading.Thread] = []

    def joins(other: int) -> None:
        time.sleep(1)
        threads[other].join()

    threads[:] = [threading.Thread(target=joins, args=(1,)), threading.Thread(target=joins, args=(0,))]
    for thread in threads:
        thread.start()


def _crosswise(rig: ic.Rig, make: Callable[[], threading.Lock]) -> None:
    one, other = make(), make()

    def takes(first: threading.Lock, second: threading.Lock) -> None:
        with first:
            time.sleep(1)
            with second:
                pass

    rig.workers(2)
    rig.enqueue(lambda: takes(one, other))
    rig.enqueue(lambda: takes(other, one))


def locks(rig: ic.Rig) -> None:
    _crosswise(rig, threading.Lock)


def reentrant_locks(rig: ic.Rig) -> None:
    _crosswise(rig, threading.RLock)  # type: ignore[arg-type]


def lock_and_pool(rig: ic.Rig) -> None:
    pool, lock = futures.ThreadPoolExecutor(1), threading.Lock()

    def holds() -> None:
        with lock:
            time.sleep(1)
            pool.submit(int).result()

    def takes() -> None:
        time.sleep(0.5)
        with lock:
            pass

    def both() -> None:
        pool.submit(takes)
        holds()

    rig.enqueue(both)


CIRCLES = [own_pool, full_pool, pool_with_wait, threads_that_join, locks, reentrant_locks, lock_and_pool]


@pytest.mark.parametrize("circle", CIRCLES)
def test_a_circle_is_named_at_its_instant(circle: Callable[[ic.Rig], None]) -> None:
    rig = ic.Rig()
    with rig:
        circle(rig)
        rig.advance("1h")
        (entry,) = [entry for entry in rig.history if entry.what == "deadlocked"]
        assert entry.at < rig.now
        assert len(rig.loose_ends()) == 1
        assert "test_circular_waits.py" in rig.loose_ends()[0]
        with pytest.raises(AssertionError, match="Nothing is left that could end th"):
            rig.check(ic.laws.no_deadlock())
        assert not rig.loose_ends()  # the test has seen it
    rig.close()


def test_an_error_for_open_jobs_names_it() -> None:
    rig = ic.Rig()
    with rig:
        own_pool(rig)
        with pytest.raises(ic.JobsLeftOpen, match=r"deadlock: .* waits for work of a pool whose workers all wait"):
            rig.run_dry()
        assert not rig.loose_ends()
    rig.close()


def pool_that_works(rig: ic.Rig) -> None:
    pool = futures.ThreadPoolExecutor(1)
    rig.enqueue(lambda: pool.submit(time.sleep, 10_000).result())


def pool_with_room(rig: ic.Rig) -> None:
    pool = futures.ThreadPoolExecutor(3)
    rig.enqueue(lambda: pool.submit(lambda: pool.submit(time.sleep, 9_000).result()).result())


def waits_with_a_limit(rig: ic.Rig) -> None:
    pool = futures.ThreadPoolExecutor(1)
    rig.enqueue(lambda: pool.submit(lambda: futures.wait([pool.submit(int)], timeout=9_000)).result())


def idle_consumers(_: ic.Rig) -> None:
    pool = futures.ThreadPoolExecutor(1)
    pool.submit(int).result()
    threading.Thread(target=queue.Queue[int]().get).start()
    threading.Thread(target=threading.Event().wait).start()
    threading.Thread(target=threading.Semaphore(0).acquire).start()


@pytest.mark.parametrize("story", [pool_that_works, pool_with_room, waits_with_a_limit, idle_consumers])
def test_what_can_still_end_is_no_circle(story: Callable[[ic.Rig], None]) -> None:
    with ic.Rig() as rig:
        story(rig)
        rig.advance("1h")
        assert not rig.loose_ends()
        rig.check(ic.laws.no_deadlock())
        rig.advance("3h")


def test_a_pool_that_is_left_says_nothing_into_the_log(capfd: pytest.CaptureFixture[str]) -> None:
    with ic.Rig():
        futures.ThreadPoolExecutor(1).submit(time.sleep, 1).result()
    assert capfd.readouterr() == ("", "")


def test_a_failed_test_has_a_section_for_it(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import concurrent.futures as futures

        def story(rig):
            pool = futures.ThreadPoolExecutor(1)
            rig.enqueue(lambda: pool.submit(lambda: pool.submit(int).result()).result())
            rig.advance("1h")

        def test_that_passes(rig):
            story(rig)

        def test_that_fails(rig):
            story(rig)
            assert rig.jobs().states() == {"done": 1}
        """
    )
    result = pytester.runpytest_subprocess("-p", "no:cacheprovider")
    result.assert_outcomes(failed=2)
    result.stdout.fnmatch_lines(
        [
            "*deadlock: * waits for work of a pool*",
            "*the test passes, and says less than it seems*",
            "*- deadlocks -*",
        ]
    )
