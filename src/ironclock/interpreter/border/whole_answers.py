"""Whole answers: the end of a server's answer, as far as its bytes say. After that nothing is expected.

Without this the clock would wait for more, before it moves past an instant at which a connection has got an answer.
"""

from __future__ import annotations

import re
from typing import Any

_READY = b"Z\0\0\0\5"
# ReadyForQuery of PostgreSQL (https://www.postgresql.org/docs/current/protocol-message-formats.html).
_LENGTH = re.compile(rb"\r\ncontent-length:\s*(\d+)\s*\r\n", re.IGNORECASE)
_CHUNKED = re.compile(rb"\r\ntransfer-encoding:\s*chunked\s*\r\n", re.IGNORECASE)
_BODILESS = re.compile(rb"HTTP/1\.[01] (?:204|304) ")
_MORE_RESULTS = 0x0008
_MOST = 1 << 16  # bytes: a longer one is taken for a part


def is_whole(data: Any, sends: int) -> bool:
    """Return True if an answer ends with these bytes, and nothing else was asked for.

    Parameters: `data` is what was received. `sends` is how often something was sent before it: several requests can be
    on their way. A request of HTTP is often sent in two parts, and seldom before the answer to another one.
    """
    size = len(data)
    if not 4 < size < _MOST:
        return False
    found = bytes(data)
    if found.startswith(b"HTTP/1."):
        return _is_whole_http(found)
    if sends > 1:
        return False
    return found[-6:-1] == _READY or _is_whole_mysql(found)


def _is_whole_http(found: bytes) -> bool:
    """https://www.rfc-editor.org/rfc/rfc9112#section-6"""
    end = found.find(b"\r\n\r\n")
    if end < 0:
        return False
    head = found[: end + 2]
    length = _LENGTH.search(head)
    if length is not None:
        return len(found) - end - 4 == int(length[1])
    if _CHUNKED.search(head) is not None:
        return found.endswith(b"0\r\n\r\n")
    return _BODILESS.match(found) is not None


def _is_whole_mysql(found: bytes) -> bool:
    """https://dev.mysql.com/doc/dev/mysql-server/latest/page_protocol_basic_response_packets.html"""
    length = int.from_bytes(found[:3], "little")
    if length + 4 == len(found) and found[3] == 1 and found[4] == 0:  # OK, without rows
        return length >= 5 and not int.from_bytes(found[7:9], "little") & _MORE_RESULTS
    if found[3] != 1 or length + 4 > len(found):
        return False
    if found[-9:-6] == b"\5\0\0" and found[-5] == 0xFE:  # EOF after the rows
        return not int.from_bytes(found[-2:], "little") & _MORE_RESULTS
    return False
