"""Mail: a post office that keeps what it is given."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

from .base import Stand


class Letter(NamedTuple):
    """One letter, as the post office took it."""

    at: dt.datetime
    to: str
    subject: str
    body: str


class Mail(Stand):
    """A mail service. `sent` holds every letter in order."""

    operations = ("send",)

    def __init__(self, name: str = "mail") -> None:
        super().__init__(name)
        self.sent: list[Letter] = []

    def send(self, to: str, subject: str, body: str = "", *, key: object = None) -> None:
        """Send a letter.

        Parameters: `key` is what it is about, for `laws.once_per_key` (the recipient and subject where left out).
        Raises `StandError`, or what a fault was given.
        """
        engine = self.in_rig("send")

        def act() -> None:
            self.sent.append(Letter(engine.moment, to, subject, body))

        about = f"{to}: {subject}" if key is None else key
        self._operate("send", act, about, {"to": to, "subject": subject, "body": body})

    def redo(self, operation: str, key: object, data: dict[str, str]) -> None:
        """Send what a forked child asked for."""
        self.send(data["to"], data["subject"], data["body"], key=key)

    def to(self, recipient: str) -> list[Letter]:
        """Return the letters to one recipient."""
        return [letter for letter in self.sent if letter.to == recipient]
