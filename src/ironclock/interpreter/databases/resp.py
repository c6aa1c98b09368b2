"""RESP, the open protocol of key-value servers, in its versions 2 and 3.

Source: https://redis.io/docs/latest/develop/reference/protocol-spec/. Replies keep the bytes in which they came, so
that what nobody changes goes on as it is.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

_LINES = b"+-:_#,("
_BLOBS = b"$!="
_BLOB = _BLOBS[0]
_MANY = b"*~>|%"


class Incomplete(Exception):
    """The bytes end before the value does."""


class Reply(NamedTuple):
    """One value of the protocol. Parameters: `kind` is its first byte, `value` what it means, `raw` its bytes."""

    kind: bytes
    value: Any
    raw: bytes

    @property
    def is_error(self) -> bool:
        """True for an error reply."""
        return self.kind in (b"-", b"!")

    @property
    def is_null(self) -> bool:
        """True for a null of either version."""
        return self.value is None

    @property
    def plain(self) -> Any:
        """The value without the wrappers of its parts."""
        if isinstance(self.value, list):
            return [part.plain if isinstance(part, Reply) else part for part in self.value]
        return self.value


def parse(data: bytes | bytearray, at: int = 0) -> tuple[Reply, int]:
    """Return the value that begins at a place, and where it ends. Raises `Incomplete` or `ValueError`."""
    end = data.find(b"\r\n", at)
    if end < 0:
        raise Incomplete
    kind, line = bytes(data[at : at + 1]), bytes(data[at + 1 : end])
    after = end + 2
    value: Any
    if kind in _LINES:
        value = None if kind == b"_" else int(line) if kind in b":(" else line == b"t" if kind == b"#" else line
        return Reply(kind, value, bytes(data[at:after])), after
    if kind in _BLOBS:
        size = int(line)
        if size < 0:
            return Reply(kind, None, bytes(data[at:after])), after
        if len(data) < after + size + 2:
            raise Incomplete
        return Reply(kind, bytes(data[after : after + size]), bytes(data[at : after + size + 2])), after + size + 2
    if kind in _MANY:
        count = int(line)
        if count < 0:
            return Reply(kind, None, bytes(data[at:after])), after
        parts = []
        for _ in range(count * 2 if kind in b"%|" else count):
            part, after = parse(data, after)
            parts.append(part)
        if kind == b"|":  # an attribute stands before the value that it is about
            reply, after = parse(data, after)
            return Reply(reply.kind, reply.value, bytes(data[at:after])), after
        return Reply(kind, parts, bytes(data[at:after])), after
    raise ValueError(f"{kind!r} begins no value of the protocol")


def request(data: bytearray) -> tuple[list[bytes], int]:
    """Return the words of the request at the beginning, and where it ends. Raises `Incomplete` or `ValueError`."""
    if not data.startswith(b"*"):
        end = data.find(b"\n")
        if end < 0:
            raise Incomplete
        return bytes(data[:end]).split(), end + 1  # as a person types it
    at = data.find(b"\r\n")
    if at < 0:
        raise Incomplete
    words, end = [], at + 2
    for _ in range(int(data[1:at])):
        at = data.find(b"\r\n", end)
        if at < 0:
            raise Incomplete
        begin = at + 2
        if data[end] != _BLOB:
            raise ValueError(f"{bytes(data[end : end + 1])!r} begins no word of a request")
        at = begin + int(data[end + 1 : at])
        if len(data) < at + 2:
            raise Incomplete
        words.append(bytes(data[begin:at]))
        end = at + 2
    return words, end


def command(*words: bytes | str | int) -> bytes:
    """Return the bytes of a request."""
    parts = [word if isinstance(word, bytes) else str(word).encode() for word in words]
    return b"*%d\r\n" % len(parts) + b"".join(b"$%d\r\n%s\r\n" % (len(part), part) for part in parts)


def number(value: int) -> bytes:
    """Return a whole number as a reply."""
    return b":%d\r\n" % value


def blob(value: bytes) -> bytes:
    """Return text as a reply."""
    return b"$%d\r\n%s\r\n" % (len(value), value)


def array(parts: Iterable[bytes]) -> bytes:
    """Return replies as one."""
    kept = list(parts)
    return b"*%d\r\n" % len(kept) + b"".join(kept)


def error(text: str) -> bytes:
    """Return an error reply. It begins with a word in capitals."""
    return f"-{text}\r\n".encode()


OK = b"+OK\r\n"
QUEUED = b"+QUEUED\r\n"


def listed_client(listing: str, client: Any) -> dict[str, str] | None:
    """Return what CLIENT LIST says of a client, which is named by its address. None if it is not there.

    (https://redis.io/docs/latest/commands/client-list/)
    """
    host, port = client[:2]
    address = f"[{host}]:{port}" if ":" in host else f"{host}:{port}"
    for line in listing.splitlines():
        fields = dict(field.partition("=")[::2] for field in line.split())
        if fields.get("addr") == address:
            return fields
    return None
