"""What waiting for the outside costs: polls of a socket, statements of SQLite, and threads that take turns."""

from __future__ import annotations

import contextlib
import select
import socket
import sqlite3
import threading
import time
from collections.abc import Callable

from turns import in_turns, loop_turns, median, verdict

import ironclock as ic

real = time.clock_gettime  # the documented door to the real clock
MONOTONIC = time.CLOCK_MONOTONIC
POLLS = 3_600
TURNS = 20_000
LIMIT_US, TURN_US = 15.0, 0.031  # what a poll may cost more, and what a turn of a bare loop took where that was stated


def polls_outside() -> float:
    """Return the seconds that the polls of an hour take without a rig."""
    one, other = socket.socketpair()
    with one, other:
        began = real(MONOTONIC)
        for _ in range(POLLS):
            select.select([one], [], [], 0)
        return real(MONOTONIC) - began


def an_hour_of(poll: Callable[[socket.socket], object]) -> Callable[[], float]:
    """Return a side: the seconds that a thread of a rig takes that polls once a second for an hour."""

    def side() -> float:
        with ic.Rig() as rig:
            one, other = socket.socketpair()
            one.settimeout(1)

            def polls() -> None:
                while True:
                    poll(one)

            threading.Thread(target=polls, daemon=True).start()
            began = real(MONOTONIC)
            rig.advance("1h")
            spent = real(MONOTONIC) - began
        one.close()
        other.close()
        return spent

    return side


def receive(one: socket.socket) -> None:
    with contextlib.suppress(TimeoutError):
        one.recv(1)


def turns_of(count: int) -> Callable[[], float]:
    """Return a side: the seconds of a turn of so many threads that sleep in turns."""

    def side() -> float:
        with ic.Rig() as rig:

            def sleeps() -> None:
                for _ in range(TURNS // count):
                    time.sleep(1)

            for _ in range(count):
                threading.Thread(target=sleeps).start()
            began = real(MONOTONIC)
            rig.advance("10h")
            return (real(MONOTONIC) - began) / TURNS

    return side


def statements(inside: bool) -> Callable[[], float]:
    """Return a side: the seconds of a thousand statements of SQLite."""

    def run() -> float:
        connection = sqlite3.connect(":memory:")
        began = real(MONOTONIC)
        for _ in range(1_000):
            connection.execute("select 1").fetchone()
        spent = real(MONOTONIC) - began
        connection.close()
        return spent

    def side() -> float:
        if not inside:
            return run()
        with ic.Rig():
            return run()

    return side


def main() -> None:
    found = in_turns(
        {
            "outside": polls_outside,
            "select": an_hour_of(lambda one: select.select([one], [], [], 1)),
            "recv": an_hour_of(receive),
            "one": turns_of(1),
            "four": turns_of(4),
            "statements outside": statements(False),
            "statements": statements(True),
        },
        9,
    )
    least = {name: min(values) for name, values in found.items()}
    turn_s = 1 / loop_turns(lambda: 1.0)  # seconds of a turn of the bare loop now
    limit_turns = LIMIT_US / TURN_US
    for name in ("select", "recv"):
        more = (least[name] - least["outside"]) / POLLS / turn_s
        verdict(
            f"a poll with {name} in a rig: {more:.0f} turns of a bare loop more than outside "
            f"(at most {limit_turns:.0f})",
            more <= limit_turns,
        )
    ratio = least["four"] / least["one"]
    verdict(f"four threads that take turns: {ratio:.1f} times the turn of one (at most 3; medians "
            f"{median(found['four']) / median(found['one']):.1f})", ratio <= 3)  # fmt: skip
    ratio = least["statements"] / least["statements outside"]
    verdict(f"statements of SQLite in a rig: {ratio:.2f} times those outside (at most 2)", ratio <= 2)


if __name__ == "__main__":
    main()
