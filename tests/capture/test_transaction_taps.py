"""Transaction taps: every way to use what opens the application's transactions."""

from __future__ import annotations

import asyncio
import contextlib
import subprocess
import sys
import types
from collections.abc import AsyncIterator, Iterator
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic


class Desk:
    """A small database: what is written in a transaction is kept if no error leaves it."""

    def __init__(self) -> None:
        self.kept: list[str] = []
        self.open: list[list[str]] = []

    @contextlib.contextmanager
    def atomic(self) -> Iterator[list[str]]:
        self.open.append([])
        try:
            yield self.open[-1]
        except BaseException:
            self.open.pop()
            raise
        written = self.open.pop()
        (self.open[-1] if self.open else self.kept).extend(written)


desk = Desk()


@contextlib.contextmanager
def atomic(name: str = "desk") -> Iterator[list[str]]:
    with desk.atomic() as written:
        yield written


class Unit(contextlib.ContextDecorator):
    """The same as a class."""

    def __enter__(self) -> list[str]:
        self.stack = contextlib.ExitStack()
        return self.stack.enter_context(desk.atomic())

    def __exit__(self, *raised: Any) -> bool | None:
        return self.stack.__exit__(*raised)


def unit(function: Any = None) -> Any:
    return Unit() if function is None else Unit()(function)


@contextlib.asynccontextmanager
async def atomic_later() -> AsyncIterator[list[str]]:
    with desk.atomic() as written:
        await asyncio.sleep(1)
        yield written


enqueue: Any = None


@atomic()
def book_by_function(fails: bool) -> None:
    enqueue(fails)


@Unit()
def book_by_class(fails: bool) -> None:
    enqueue(fails)


@unit
def book_by_bare_decorator(fails: bool) -> None:
    enqueue(fails)


def book_in_block(fails: bool) -> None:
    with atomic("desk") as written:
        written.append("booking")
        enqueue(fails)


@pytest.mark.parametrize(
    ("target", "book"),
    [
        (atomic, book_by_function), (atomic, book_in_block), ("test_transaction_taps:atomic", book_by_function),
        (Unit, book_by_class), (unit, book_by_class), (unit, book_by_bare_decorator), (Unit, book_by_bare_decorator),
    ],
)  # fmt: skip
def test_every_use_opens_a_transaction_also_of_functions_that_were_decorated_before(
    target: Any, book: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(sys.modules, "test_transaction_taps", sys.modules[__name__])
    with ic.Rig() as rig:
        rig.transaction_at(target)

        def into_rig(fails: bool) -> None:
            rig.enqueue(print)
            assert len(rig.jobs()) == (1 if fails else 0), "not before the commit"
            if fails:
                raise ValueError("no berth left")

        monkeypatch.setattr(sys.modules[__name__], "enqueue", into_rig)
        book(False)
        assert [job.state for job in rig.jobs()] == ["ready"]
        rig.run_dry()
        with pytest.raises(ValueError, match="no berth"):
            book(True)
        assert len(rig.jobs()) == 1
        assert [entry.what for entry in rig.history if "commit" in entry.what or "rolled" in entry.what] == [
            "committed",
            "rolled-back",
        ]
    monkeypatch.setattr(sys.modules[__name__], "enqueue", lambda fails: None)
    book(False)  # outside it is as it was
    assert [entry.what for entry in rig.history].count("committed") == 1


def test_an_async_context_manager() -> None:
    async def book(rig: ic.Rig) -> None:
        async with atomic_later():
            rig.enqueue(print)
            assert len(rig.jobs()) == 0
        assert len(rig.jobs()) == 1
        with contextlib.suppress(ValueError):
            async with atomic_later():
                rig.enqueue(print)
                raise ValueError

    with ic.Rig() as rig:
        rig.transaction_at(atomic_later)
        asyncio.run(book(rig))
        assert len(rig.jobs()) == 1


def test_what_opens_no_transaction() -> None:
    module = types.SimpleNamespace(atomic=lambda: 5)
    with ic.Rig() as rig:
        rig.transaction_at(module.atomic)
        with pytest.raises(
            ic.TapError, match="returned 5; transaction_at needs a function that returns a context manager"
        ):
            module.atomic()


# --- Django -------------------------------------------------------------------------------------------

DJANGO = '''
import contextlib, sys
import django
from django.conf import settings
settings.configure(
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": sys.argv[1], "ATOMIC_REQUESTS": True}},
    USE_TZ=True, INSTALLED_APPS=[], ROOT_URLCONF=__name__, ALLOWED_HOSTS=["*"], SECRET_KEY="salt", MIDDLEWARE=[],
)
django.setup()
from django.db import connection, models, transaction
from django.db.transaction import atomic
from django.http import HttpResponse
from django.test import Client
from django.urls import path
import ironclock as ic

class Booking(models.Model):
    class Meta:
        app_label = "ferry"

with connection.schema_editor() as editor:
    editor.create_model(Booking)

now = []  # what is enqueued and what is kept at each look
def put(name):
    rig.enqueue(job.call(name))

@atomic
def bare(name):
    Booking.objects.create(); put(name); look(name)

@transaction.atomic(durable=True)
def durable(name):
    Booking.objects.create(); put(name); look(name)

def look(name):
    now.append((name, len(rig.jobs())))

def view(request, fails):
    Booking.objects.create(); put("view"); look("view")
    if fails == "yes":
        raise ValueError("no berth left")
    return HttpResponse("ok")

def hooks():
    with atomic():
        Booking.objects.create()
        transaction.on_commit(lambda: put("hook"))
        look("hook")

def savepoints():
    with atomic():
        put("outer")
        with contextlib.suppress(ValueError), atomic():
            put("undone")
            raise ValueError
        with atomic():
            put("inner")
        look("savepoints")

def spoiled():
    """An inner block without a savepoint fails: Django rolls everything back, in silence."""
    with atomic():
        Booking.objects.create()
        put("spoiled")
        with contextlib.suppress(ValueError), atomic(savepoint=False):
            raise ValueError

urlpatterns = [path("book/<fails>", view)]
for joins in (True, False):
    Booking.objects.all().delete()
    now.clear()
    with ic.Rig() as rig:
        job = rig.job(lambda name: None, name="confirm")
        rig.transaction_at("django.db.transaction:atomic", joins=joins)
        bare("bare"); durable("durable")
        client = Client(raise_request_exception=False)
        assert client.get("/book/no").status_code == 200
        assert client.get("/book/yes").status_code == 500
        hooks(); savepoints(); spoiled()
        transaction.on_commit(lambda: put("autocommit"))
        transaction.set_autocommit(False)
        put("by hand"); transaction.commit()
        transaction.set_autocommit(True)
        print([j.args[0] for j in rig.jobs()], now, Booking.objects.count())
        try:
            rig.check(ic.laws.after_commit())
            print("holds")
        except ic.BrokenLaw as broken:
            print(str(broken).count("can be fetched before"), "hook" in str(broken).partition(" can be")[0])
assert transaction.Atomic.__enter__.__qualname__ == "Atomic.__enter__"
'''


def test_django(tmp_path: Path) -> None:
    pytest.importorskip("django")
    done = subprocess.run(
        [sys.executable, "-c", DJANGO, str(tmp_path / "ferry.db")], capture_output=True, text=True, timeout=120
    )
    lines = done.stdout.splitlines()
    assert lines[0] == (
        "['bare', 'durable', 'view', 'hook', 'outer', 'inner', 'autocommit', 'by hand'] "
        "[('bare', 0), ('durable', 1), ('view', 2), ('view', 3), ('hook', 3), ('savepoints', 4)] 4"
    ), done.stderr[-3000:]
    assert lines[1] == "holds"
    # If the queue is no part of the transaction, what is put in inside is there at once; what a hook puts in is not.
    assert lines[2].startswith(
        "['bare', 'durable', 'view', 'view', 'hook', 'outer', 'undone', 'inner', 'spoiled', 'autocommit'"
    )
    assert lines[3].endswith("False")
