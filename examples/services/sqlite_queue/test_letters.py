"""The SQLite queue: the model says where its columns are."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import Engine, create_engine
from sqlalchemy.orm import Session

import ironclock as ic
from services.sqlite_queue import letters


@pytest.fixture
def engine(tmp_path: Path) -> Iterator[Engine]:
    made = create_engine(f"sqlite:///{tmp_path / 'letters.db'}")
    letters.Base.metadata.create_all(made)
    yield made
    made.dispose()
    letters.sent.clear()


def test_two_workers_send_each_letter_once(rig: ic.Rig, engine: Engine) -> None:
    rig.outbox(engine, table=letters.Letter, runs=False)
    rig.run_loop(letters.work, engine, count=2, name="worker")
    with Session(engine) as session:
        for name in ("ada", "bo", "cy"):
            letters.put(session, name)
        session.commit()
    rig.run_dry()
    assert sorted(letters.sent) == ["ada", "bo", "cy"]
    assert {job.state for job in rig.jobs("send")} == {"done"}


def test_a_letter_that_was_rolled_back_is_not_sent(rig: ic.Rig, engine: Engine) -> None:
    rig.outbox(engine, table=letters.Letter, runs=False)
    rig.run_loop(letters.work, engine)
    with Session(engine) as session:
        letters.put(session, "ada")
        session.flush()
        session.rollback()
    rig.advance("1m")
    assert letters.sent == []


def test_the_waits_after_failures(rig: ic.Rig, engine: Engine, monkeypatch: pytest.MonkeyPatch) -> None:
    rig.outbox(engine, table=letters.Letter, runs=False)
    rig.run_loop(letters.work, engine)

    def closed(to: str) -> None:
        raise ConnectionError("no mail today")

    monkeypatch.setattr(letters, "send", closed)
    with Session(engine) as session:
        letters.put(session, "ada")
        session.commit()
    rig.run_dry()
    job = rig.jobs("send").one()
    assert (job.state, job.waits) == ("dead", ["1m", "2m"])
    assert job.error is not None
