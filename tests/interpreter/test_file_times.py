"""Times of files that code of a rig has written, and clock readers that ask the system past Python's functions."""

from __future__ import annotations

import os
import time
import uuid
from pathlib import Path

import ironclock as ic


def age(path: Path) -> float:
    return time.time() - path.stat().st_mtime


def test_the_age_of_a_file_is_simulated(tmp_path: Path) -> None:
    old = tmp_path / "old"
    old.write_text("older than the rig")
    os.utime(old, (1_000_000_000, 1_000_000_000))
    with ic.Rig(start="2031-03-03T09:00") as rig:
        state, log, touched = tmp_path / "state", tmp_path / "log", tmp_path / "touched"
        state.write_text("at sea")
        with log.open("a") as file:
            rig.advance("10m")
            file.write("a line")
            file.flush()
            touched.touch()
            rig.advance("5m")
            assert [age(path) for path in (state, log, touched)] == [900, 300, 300]
            assert {entry.name: time.time() - entry.stat().st_mtime for entry in os.scandir(tmp_path)}["log"] == 300
        assert time.time() - os.path.getmtime(state) == 900
        assert old.stat().st_mtime == 1_000_000_000
        touched.touch()
        assert age(touched) == 0
        os.utime(touched, (1_900_000_000, 1_900_000_000))
        assert touched.stat().st_mtime == 1_900_000_000
        (tmp_path / "folder").mkdir()
        rig.advance("1m")
        assert age(tmp_path / "folder") == 60
    assert abs(age(state)) < 600, "on the disk the times are real"


def test_a_change_that_was_not_seen_bears_the_instant_at_which_it_was_found(tmp_path: Path) -> None:
    import sqlite3

    with ic.Rig(start="2031-03-03T09:00") as rig:
        connection = sqlite3.connect(tmp_path / "tern.db")
        connection.execute("create table t (n)")
        connection.close()
        assert age(tmp_path / "tern.db") == 0
        rig.advance("10m")
        assert age(tmp_path / "tern.db") == 600


def test_uuid1_follows() -> None:
    with ic.Rig(start="2031-03-03T09:00"):
        seconds = (uuid.uuid1().time - 0x01B21DD213814000) / 1e7
        assert abs(seconds - time.time()) < 1e-3
    assert (uuid.uuid1().time - 0x01B21DD213814000) / 1e7 < 1_930_000_000
