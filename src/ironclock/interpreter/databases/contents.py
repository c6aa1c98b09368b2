"""What is in the databases of a rig: the rows of their tables, and the keys of key-value servers.

A search reads it beside the code under test, over sessions of its own that wait for real, and changes nothing.
"""

from __future__ import annotations

import json
import socket
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from ..patching.real_functions import poll_for, real_connect, real_recv, real_send
from .resp import Incomplete, command, parse

if TYPE_CHECKING:
    from .postgres_clock import Query

MOST_ITEMS = 2_000
"""How many rows of one table, or members of one key, are read. A larger one is left out."""

_IN = 1  # select.POLLIN
_TABLES = """
select c.oid::regclass::text, coalesce((
    select string_agg(distinct a.attname, ',') from pg_constraint k join pg_attribute a
    on a.attrelid = k.conrelid and a.attnum = any(k.conkey) where k.conrelid = c.oid and k.contype in ('p', 'f')), '')
from pg_class c join pg_namespace n on n.oid = c.relnamespace
where c.relkind = 'r' and n.nspname not in ('pg_catalog', 'information_schema', 'ironclock')
and n.nspname not like 'pg_%' and n.nspname = any(current_schemas(false)) order by 1
"""


class Item(NamedTuple):
    """One thing that is there: a row, or a member of a key."""

    value: Any
    """A row as a mapping by column, a member as JSON holds it."""
    numbers: frozenset[str] = frozenset()
    """The columns that are numbers of rows: primary and foreign keys."""


Contents = dict[str, list[Item]]
"""By place, in words: ``table jobs``, ``key jobs:ready``."""


class Rows:
    """What is in the tables of one PostgreSQL database. Parameters: `query` runs a query and returns its rows."""

    def __init__(self, query: Query) -> None:
        self._query = query
        self._is_set = False

    def read(self) -> Contents:
        """Return what has been committed. It waits half a second for a table that somebody changes, and no longer."""
        if not self._is_set:
            self._query("set lock_timeout = '500ms'")
            self._is_set = True
        tables = [(str(table), frozenset(str(names).split(",")) - {""}) for table, names in self._query(_TABLES)]
        if not tables:
            return {}
        parts = [
            f"select {number}, coalesce(json_agg(t), '[]')::text from (select * from {table} limit {MOST_ITEMS + 1}) t"
            for number, (table, _) in enumerate(tables)
        ]
        contents: Contents = {}
        for number, text in self._query(" union all ".join(parts)):
            table, numbers = tables[int(number)]
            rows = json.loads(text)
            if rows and len(rows) <= MOST_ITEMS:
                contents[f"table {table}"] = [Item(row, numbers) for row in rows]
        return contents


class File:
    """What is in the tables of one file of SQLite."""

    def __init__(self, path: str) -> None:
        self._path = path

    def read(self) -> Contents:
        """Return what has been committed. Raises `sqlite3.Error` if somebody writes now."""
        contents: Contents = {}
        own = sqlite3.connect(f"file:{self._path}?mode=ro", uri=True, timeout=0)
        try:
            own.row_factory = sqlite3.Row
            names = own.execute("select name from sqlite_master where type = 'table' and name not like 'sqlite_%'")
            for (table,) in list(names):
                quoted = '"' + str(table).replace('"', '""') + '"'
                rows = own.execute(f"select * from {quoted} limit {MOST_ITEMS + 1}").fetchall()
                keys = [row["name"] for row in own.execute(f"pragma table_info({quoted})") if row["pk"]]
                keys += [row["from"] for row in own.execute(f"pragma foreign_key_list({quoted})")]
                if rows and len(rows) <= MOST_ITEMS:
                    contents[f"table {table}"] = [Item(dict(row), frozenset(keys)) for row in rows]
        finally:
            own.close()
        return contents


class Keys:
    """What is in one database of a key-value server. Keys that expire are left out.

    Parameters: `address` is that of the server, `words` are commands of a new connection. `expires` returns True for a
    key whose expiry the rig keeps.
    """

    def __init__(
        self, address: tuple[str, int], words: Sequence[tuple[str | int, ...]], expires: Callable[[bytes], bool]
    ) -> None:
        self._socket = socket.socket(socket.AF_INET6 if ":" in address[0] else socket.AF_INET)
        self._expires = expires
        self._received = bytearray()
        real_connect(self._socket, address)
        for each in words:
            self._ask([each])

    def close(self) -> None:
        """Close the connection."""
        self._socket.close()

    def read(self) -> Contents:
        """Return what is there."""
        keys: list[bytes] = []
        cursor = b"0"
        while True:
            ((cursor, found),) = self._ask([("SCAN", cursor, "COUNT", 1000)])
            keys += [key for key in found if not self._expires(key)]
            if cursor == b"0" or len(keys) > MOST_ITEMS:
                break
        keys = sorted(set(keys))
        kinds = self._ask([("TYPE", key) for key in keys])
        left = self._ask([("PTTL", key) for key in keys])
        todo = [(key, kind) for key, kind, ms in zip(keys, kinds, left, strict=True) if kind in _READ_BY and ms < 0]
        values = self._ask([(name, key, *rest) for key, kind in todo for name, *rest in (_READ_BY[kind],)])
        contents: Contents = {}
        for (key, kind), value in zip(todo, values, strict=True):
            items = list(_members(kind, value))
            if 0 < len(items) <= MOST_ITEMS:
                contents[f"key {key.decode('utf-8', 'replace')}"] = items
        return contents

    def _ask(self, several: Sequence[tuple[Any, ...]]) -> list[Any]:
        """Send commands in one go; return their answers."""
        data = b"".join(command(*words) for words in several)
        while data:
            data = data[real_send(self._socket, data) :]
        answers: list[Any] = []
        while len(answers) < len(several):
            try:
                reply, end = parse(self._received)
            except Incomplete:
                poll_for(self._socket.fileno(), _IN, None)
                more = real_recv(self._socket, 65_536)
                if not more:
                    raise ConnectionError("the key-value server has closed the connection") from None
                self._received += more
                continue
            del self._received[:end]
            answers.append(b"" if reply.is_error else reply.plain)
        return answers


_READ_BY: dict[bytes, tuple[Any, ...]] = {
    b"string": ("GET",),
    b"list": ("LRANGE", 0, MOST_ITEMS),
    b"set": ("SMEMBERS",),
    b"hash": ("HGETALL",),
    b"zset": ("ZRANGE", 0, MOST_ITEMS, "WITHSCORES"),
}


def _members(kind: bytes, value: Any) -> Iterator[Item]:
    if kind == b"string":
        yield Item(_told(value))
    elif kind in (b"hash", b"zset"):
        name = "field" if kind == b"hash" else "member"
        other = "value" if kind == b"hash" else "score"
        flat = [_told(part) for part in value]
        for first, second in zip(flat[::2], flat[1::2], strict=True):
            yield Item({name: first, other: second})
    else:
        for part in value:
            yield Item(_told(part))


def _told(value: Any) -> Any:
    """Return bytes as what they most likely are: JSON, or text."""
    text = value.decode("utf-8", "backslashreplace") if isinstance(value, bytes) else str(value)
    if text[:1] in "{[-0123456789":
        try:
            return json.loads(text)
        except ValueError:
            pass
    return text
