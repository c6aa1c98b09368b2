"""A mail server on a socket: code that speaks SMTP sends to it unchanged (RFC 5321)."""

from __future__ import annotations

import contextlib
import datetime as dt
import email
import email.policy
import socket
import threading
from typing import Any, NamedTuple

from ..errors import InputError, RigStateError
from .service import Service


class Received(NamedTuple):
    """One message that was received."""

    at: dt.datetime
    sender: str
    recipients: tuple[str, ...]
    subject: str
    body: str
    raw: bytes
    """The message as it came."""


class MailServer(Service):
    """A simulated mail server that listens on a loopback port while its rig is entered.

    Its faults are those of `Service`: while it is down, connections are closed; `slow` delays the answer to a message;
    `fail` answers 451, which asks for another try; `lose_response` keeps the message and closes the connection.

    Parameters: `name` is its name. Default ``"mail-server"``.

    Example::

        server = rig.service(ic.services.MailServer())
        with smtplib.SMTP(*server.address) as client:
            client.sendmail("desk@tern-line.test", ["ada@tern-line.test"], "Subject: Your seat\\n\\nA1")
        assert [letter.subject for letter in server.received] == ["Your seat"]
    """

    operations = ("message",)

    def __init__(self, name: str = "mail-server") -> None:
        super().__init__(name)
        self.received: list[Received] = []
        """Every message, in order."""
        self._listener: socket.socket | None = None

    @property
    def address(self) -> tuple[str, int]:
        """Host and port. The server starts to listen when the test asks for them, in the entered rig.

        Raises `RigStateError` in a job: the server would end with its worker.
        """
        if self._listener is None:
            if self.in_rig("address").loop.current is not None:
                raise RigStateError(f"{self.name} is started in a job; ask for its address in the test first")
            self._listener = socket.create_server(("127.0.0.1", 0))
            threading.Thread(target=self._accept, args=(self._listener,), name=self.name, daemon=True).start()
        host, port = self._listener.getsockname()[:2]
        return str(host), int(port)

    def _accept(self, listener: socket.socket) -> None:
        with listener:
            while True:
                connection, _ = listener.accept()
                if self.is_down():
                    connection.close()
                    continue
                threading.Thread(target=self._serve, args=(connection,), name=self.name, daemon=True).start()

    def _serve(self, connection: socket.socket) -> None:
        with connection, connection.makefile("rb") as lines, contextlib.suppress(OSError):
            self._talk(connection, lines)

    def _talk(self, connection: socket.socket, lines: Any) -> None:
        def say(text: str) -> None:
            connection.sendall(text.encode() + b"\r\n")

        say("220 harbour.tern-line.test")
        sender, recipients = "", list[str]()
        while line := lines.readline():
            words = line.decode("utf-8", "replace").strip()
            verb = words[:4].upper()
            if verb == "EHLO":
                say("250-harbour.tern-line.test")
                say("250-8BITMIME")
                say("250 SMTPUTF8")
            elif verb == "MAIL":
                sender, recipients = _address(words), []
                say("250 fine")
            elif verb == "RCPT":
                recipients.append(_address(words))
                say("250 fine")
            elif verb == "DATA":
                if not recipients:
                    say("503 no recipients")
                    continue
                say("354 end with a dot")
                if not self._take(say, sender, tuple(recipients), _message(lines)):
                    return
            elif verb == "QUIT":
                say("221 bye")
                return
            elif verb in ("HELO", "RSET", "NOOP"):
                say("250 fine")
            else:
                say("502 not known here")

    def _take(self, say: Any, sender: str, recipients: tuple[str, ...], raw: bytes) -> bool:
        """Keep a message and answer; return False if the connection ends without an answer."""
        simulation = self.in_rig("message")
        made: Any = email.message_from_bytes(raw, policy=email.policy.default)
        part = made.get_body(("plain", "html"))
        body = "" if part is None else part.get_content()
        about = made.get("Message-ID") or f"{', '.join(recipients)}: {made.get('Subject', '')}"
        kept: list[Received] = []

        def act() -> None:
            letter = Received(
                simulation.loop.moment,
                sender,
                recipients,
                str(made.get("Subject", "")),
                body.replace("\r\n", "\n").rstrip("\n"),
                raw,
            )
            kept.append(letter)
            self.received.append(letter)

        try:
            self._operate("message", act, str(about), {"to": list(recipients), "subject": str(made.get("Subject", ""))})
        except Exception as error:
            if kept or self.is_down():
                return False
            say(f"451 {error}")
            return True
        say("250 kept")
        return True

    def redo(self, operation: str, key: object, data: dict[str, Any]) -> object:
        """Do nothing for a forked child: it has no server. Parameters: `operation` is the name of the operation; `key`
        is what it is about; `data` are its arguments."""
        raise InputError(f"{self.name} cannot be used in a worker that dies for real (hard=True)")


def _address(words: str) -> str:
    """Return the address in ``MAIL FROM:<...>`` or ``RCPT TO:<...>``."""
    _, _, rest = words.partition(":")
    return rest.strip().split(" ")[0].strip("<>")


def _message(lines: Any) -> bytes:
    """Read a message up to the line with a dot alone."""
    read = bytearray()
    while line := lines.readline():
        if line.rstrip(b"\r\n") == b".":
            break
        read += line[1:] if line.startswith(b"..") else line
    return bytes(read)
