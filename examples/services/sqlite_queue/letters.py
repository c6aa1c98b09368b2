"""Jobs in a table of SQLite with SQLAlchemy: one model, one worker."""

from __future__ import annotations

import datetime as dt
import time
from typing import Any

from sqlalchemy import JSON, Engine, select, update
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column


class Base(DeclarativeBase):
    """The tables."""


class Letter(Base):
    """A letter that is to be sent."""

    __tablename__ = "letters"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    payload: Mapped[dict[str, Any]] = mapped_column(JSON)
    state: Mapped[str] = mapped_column(default="waiting")
    run_at: Mapped[dt.datetime]
    attempts: Mapped[int] = mapped_column(default=0)
    WAITING, RUNNING, DONE, DEAD = "waiting", "running", "done", "dead"


sent: list[str] = []


def now() -> dt.datetime:
    """Return the time as the table has it: UTC, without a zone."""
    return dt.datetime.now(dt.timezone.utc).replace(tzinfo=None)


def put(session: Session, to: str, wait: float = 0) -> Letter:
    """Add a letter, in the transaction of the session."""
    letter = Letter(kind="send", payload={"to": to}, run_at=now() + dt.timedelta(seconds=wait))
    session.add(letter)
    return letter


def send(to: str) -> None:
    """Send one letter."""
    sent.append(to)


def work_once(engine: Engine) -> bool:
    """Send one letter that is due; return False if there is none."""
    with Session(engine) as session:
        found = session.scalars(
            select(Letter).where(Letter.state == "waiting", Letter.run_at <= now()).order_by(Letter.run_at).limit(1)
        ).first()
        if found is None:
            return False
        claimed = session.execute(
            update(Letter).where(Letter.id == found.id, Letter.state == "waiting")
            .values(state="running", attempts=Letter.attempts + 1)
        )  # fmt: skip
        session.commit()
        if claimed.rowcount == 0:  # type: ignore[attr-defined]
            return True  # another worker was faster
        try:
            send(**found.payload)
            found.state = "done"
        except ConnectionError:
            found.state = "dead" if found.attempts >= 3 else "waiting"
            found.run_at = now() + dt.timedelta(minutes=found.attempts)
        session.commit()
    return True


def work(engine: Engine) -> None:
    """Send letters for ever."""
    while True:
        if not work_once(engine):
            time.sleep(5)
