"""The tests of the Django app. They run in a process of their own, since Django is configured once in a process."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from django.db import connection

import ironclock as ic
from services.django_desk import desk


@pytest.fixture(autouse=True)
def tables(tmp_path: Path) -> Iterator[None]:
    connection.settings_dict["NAME"] = str(tmp_path / "desk.db")
    with connection.schema_editor() as editor:
        for model in (desk.Booking, desk.Task):
            editor.create_model(model)
    yield
    connection.close()
    desk.sent.clear()


def test_the_letter_follows_the_commit(rig: ic.Rig) -> None:
    rig.outbox(connection, table=desk.Task, runs=False)
    rig.run_loop(desk.work)
    desk.book("TL-204")
    with pytest.raises(ValueError, match="no berth"):
        desk.book("TL-206", fails=True)
    rig.advance("1m")
    assert desk.sent == [1]
    assert [job.state for job in rig.jobs("letter")] == ["done"]


def test_the_rig_can_run_the_queue_itself(rig: ic.Rig) -> None:
    rig.outbox(connection, table=desk.Task, handlers={"letter": desk.letter})
    desk.book("TL-204")
    desk.later("letter", wait=3_600, booking=1)
    rig.run_dry()
    assert desk.sent == [1, 1]
    assert desk.Task.objects.filter(status="done").count() == 2


def test_a_transaction_of_the_application_is_one_of_the_rig(rig: ic.Rig) -> None:
    rig.transaction_at("django.db.transaction:atomic")
    desk.book("TL-204")
    assert [entry.what for entry in rig.history] == ["committed"]
