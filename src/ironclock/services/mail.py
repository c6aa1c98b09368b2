"""A mail service that keeps every letter."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

from .service import Service


class Letter(NamedTuple):
    """One letter that was sent."""

    at: dt.datetime
    to: str
    subject: str
    body: str


class Mail(Service):
    """A simulated mail service.

    Parameters: `name` is its name. Default ``"mail"``.

    Example::

        mail = rig.service(ic.services.Mail())
        mail.send("ada@tern-line.test", "Your seat on TL-204")
        assert [letter.subject for letter in mail.sent] == ["Your seat on TL-204"]
    """

    operations = ("send",)

    def __init__(self, name: str = "mail") -> None:
        super().__init__(name)
        self.sent: list[Letter] = []
        """Every letter, in order."""

    def send(self, to: str, subject: str, body: str = "", *, key: object = None) -> None:
        """Send a letter.

        Parameters: `to` is the recipient, `subject` and `body` are text. `key` is what the letter is about, for
        `laws.once_per_key`. Default None: recipient and subject. Raises `ServiceError`, or the error of a fault.

        Example::

            mail = rig.service(ic.services.Mail())
            mail.send("ada@tern-line.test", "Your seat", "12A", key="B-7")
        """
        loop = self.in_rig("send").loop

        def act() -> None:
            self.sent.append(Letter(loop.moment, to, subject, body))

        about = f"{to}: {subject}" if key is None else key
        self._operate("send", act, about, {"to": to, "subject": subject, "body": body})

    def redo(self, operation: str, key: object, data: dict[str, str]) -> None:
        """Send a letter for a forked child. Parameters: `operation` is the name of the operation; `key` is what it is
        about; `data` are its arguments."""
        self.send(data["to"], data["subject"], data["body"], key=key)

    def to(self, recipient: str) -> list[Letter]:
        """Return the letters to `recipient`.

        Example::

            mail = rig.service(ic.services.Mail())
            mail.send("ada@tern-line.test", "Your seat")
            assert len(mail.to("ada@tern-line.test")) == 1
        """
        return [letter for letter in self.sent if letter.to == recipient]
