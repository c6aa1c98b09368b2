"""The times of a key-value server, kept by the rig: when keys expire, when they were used, when entries were delivered.

The real server holds every key without an expiry. Each command is sent on without its times, and its reply is changed
to what the server would say if its clock were the rig's (https://redis.io/docs/latest/commands/).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

from .resp import Reply, array, blob, error, number

Key = tuple[int, bytes]  # the number of the database, and the key


class Step(NamedTuple):
    """What is done with one command.

    Parameters: `sends` is what the server gets instead. `answers` makes the answer from its reply.
    """

    sends: list[bytes]
    answers: Callable[[Reply], bytes]


def as_it_is(reply: Reply) -> bytes:
    """Return a reply unchanged."""
    return reply.raw


class Times:
    """The times of one server. Parameters: `now_ms` returns the rig's time in milliseconds since 1970."""

    def __init__(self, now_ms: Callable[[], int]) -> None:
        self.now_ms = now_ms
        self.deadlines: dict[Key, int] = {}
        """By key, when it expires, in milliseconds since 1970."""
        self.used: dict[Key, int] = {}
        """By key, when a command has last used it."""
        self.delivered: dict[tuple[int, bytes, bytes], dict[bytes, int]] = {}
        """By database, stream and group, when each pending entry was delivered last."""

    # --- keys -----------------------------------------------------------------------------------------

    def due(self) -> list[Key]:
        """Return the keys that have expired by now, the first one first, and forget them."""
        now = self.now_ms()
        found = sorted((at, key) for key, at in self.deadlines.items() if at <= now)
        for _, key in found:
            self.forget(key)
        return [key for _, key in found]

    def next_ms(self) -> int | None:
        """Return when the next key expires. None if none does."""
        return min(self.deadlines.values(), default=None)

    def forget(self, key: Key) -> None:
        """Forget the times of a key that is gone or new."""
        self.deadlines.pop(key, None)

    def forget_database(self, db: int | None) -> None:
        """Forget every key of a database. None: of all of them."""
        for table in (self.deadlines, self.used):
            for key in [key for key in table if db is None or key[0] == db]:
                del table[key]
        for name in [name for name in self.delivered if db is None or name[0] == db]:
            del self.delivered[name]

    def move(self, old: Key, new: Key, copy: bool = False) -> None:
        """Give a key the times of another one, which is renamed or copied."""
        at = self.deadlines.get(old)
        if not copy:
            self.deadlines.pop(old, None)
        if at is None:
            self.deadlines.pop(new, None)
        else:
            self.deadlines[new] = at

    # --- one command ----------------------------------------------------------------------------------

    def step(self, db: int, words: list[bytes]) -> Step | None:
        """Return what to do with a command that has to do with time. None: send it on."""
        name = words[0].upper()
        rule = _RULES.get(name)
        if rule is None or len(words) < rule.least:
            return None
        try:
            return rule.make(self, db, words)
        except _Refused as refused:
            text = str(refused)
            return Step([b"PING"], lambda reply: error(text))

    def _in(self, db: int, key: bytes) -> Key:
        return db, key

    # --- expiry ---------------------------------------------------------------------------------------

    def expire(self, db: int, words: list[bytes]) -> Step:
        """EXPIRE, PEXPIRE, EXPIREAT, PEXPIREAT."""
        name, key = words[0].upper(), self._in(db, words[1])
        amount = _whole(words[2])
        at = amount if name.startswith(b"P") else amount * 1000
        if not name.endswith(b"AT"):
            at += self.now_ms()
        options = {word.upper() for word in words[3:]}
        if options - {b"NX", b"XX", b"GT", b"LT"}:
            raise _Refused("ERR Unsupported option " + words[3].decode("utf-8", "replace"))
        if b"NX" in options and len(options) > 1:
            raise _Refused("ERR NX and XX, GT or LT options at the same time are not compatible")
        if {b"GT", b"LT"} <= options:
            raise _Refused("ERR GT and LT options at the same time are not compatible")

        def answers(reply: Reply) -> bytes:
            if not reply.value:
                return number(0)
            before = self.deadlines.get(key)
            if (
                (b"NX" in options and before is not None)
                or (b"XX" in options and before is None)
                or (b"GT" in options and (before is None or at <= before))
                or (b"LT" in options and before is not None and at >= before)
            ):
                return number(0)
            self.deadlines[key] = at
            return number(1)

        return Step([b"EXISTS", words[1]], answers)

    def ttl(self, db: int, words: list[bytes]) -> Step:
        """TTL, PTTL, EXPIRETIME, PEXPIRETIME."""
        name, key = words[0].upper(), self._in(db, words[1])

        def answers(reply: Reply) -> bytes:
            if not reply.value:
                return number(-2)
            at = self.deadlines.get(key)
            if at is None:
                return number(-1)
            ms = at if name.endswith(b"TIME") else max(at - self.now_ms(), 0)
            if name.startswith(b"P"):
                return number(ms)
            return number(ms // 1000 if name.endswith(b"TIME") else (ms + 500) // 1000)

        return Step([b"EXISTS", words[1]], answers)

    def persist(self, db: int, words: list[bytes]) -> Step:
        """PERSIST."""
        key = self._in(db, words[1])

        def answers(reply: Reply) -> bytes:
            return number(1 if reply.value and self.deadlines.pop(key, None) is not None else 0)

        return Step([b"EXISTS", words[1]], answers)

    def set(self, db: int, words: list[bytes]) -> Step:
        """SET with its options."""
        key, kept, at, keeps = self._in(db, words[1]), words[:3], None, False
        options: set[bytes] = set()
        place = 3
        while place < len(words):
            word = words[place].upper()
            if word in _TIMES and place + 1 < len(words):
                at = self._deadline(word, words[place + 1], b"set")
                place += 2
                continue
            if word == b"KEEPTTL":
                keeps = True
            else:
                options.add(word)
                kept.append(words[place])
            place += 1
        if at is not None and keeps:
            raise _Refused("ERR syntax error")

        def answers(reply: Reply) -> bytes:
            if reply.is_error:
                return reply.raw
            if b"GET" in options:
                was_set = not options & {b"NX", b"XX"} or (reply.is_null) == (b"NX" in options)
            else:
                was_set = not reply.is_null
            if was_set and not keeps:
                self._put(key, at)
            return reply.raw

        return Step(kept, answers)

    def setex(self, db: int, words: list[bytes]) -> Step:
        """SETEX, PSETEX."""
        name, key = words[0].upper(), self._in(db, words[1])
        at = self._deadline(b"PX" if name.startswith(b"P") else b"EX", words[2], name.lower())

        def answers(reply: Reply) -> bytes:
            if not reply.is_error:
                self._put(key, at)
            return reply.raw

        return Step([b"SET", words[1], *words[3:]], answers)

    def getex(self, db: int, words: list[bytes]) -> Step:
        """GETEX."""
        key, option = self._in(db, words[1]), words[2].upper() if len(words) > 2 else b""
        at = self._deadline(option, words[3], b"getex") if option in _TIMES and len(words) > 3 else None
        if option and option not in (*_TIMES, b"PERSIST"):
            raise _Refused("ERR syntax error")

        def answers(reply: Reply) -> bytes:
            if not reply.is_error and not reply.is_null and option:
                self._put(key, at)
            return reply.raw

        return Step([b"GET", words[1]], answers)

    def _deadline(self, option: bytes, amount: bytes, name: bytes) -> int:
        value = _whole(amount)
        if value <= 0:
            raise _Refused(f"ERR invalid expire time in '{name.decode()}' command")
        ms = value if option.startswith(b"P") else value * 1000
        return ms if option.endswith(b"AT") else self.now_ms() + ms

    def _put(self, key: Key, at: int | None) -> None:
        if at is None:
            self.deadlines.pop(key, None)
        else:
            self.deadlines[key] = at

    def restore(self, db: int, words: list[bytes]) -> Step:
        """RESTORE."""
        key, ttl = self._in(db, words[1]), _whole(words[2])
        absolute = any(word.upper() == b"ABSTTL" for word in words[4:])
        kept = [*words[:2], b"0", *(word for word in words[3:] if word.upper() != b"ABSTTL")]
        at = None if not ttl else ttl if absolute else self.now_ms() + ttl

        def answers(reply: Reply) -> bytes:
            if not reply.is_error:
                self._put(key, at)
            return reply.raw

        return Step(kept, answers)

    # --- keys that are overwritten, renamed, copied -----------------------------------------------------

    def overwrites(self, db: int, words: list[bytes]) -> Step:
        """GETSET, MSET: what they write has no expiry."""
        name = words[0].upper()
        keys = words[1::2] if name in (b"MSET", b"MSETNX") else words[1:2]

        def answers(reply: Reply) -> bytes:
            if not reply.is_error and not (name == b"MSETNX" and not reply.value):
                for key in keys:
                    self.forget(self._in(db, key))
            return reply.raw

        return Step(words, answers)

    def stores(self, db: int, words: list[bytes]) -> Step:
        """Commands that write their result into a key: that has no expiry then."""
        name = words[0].upper()
        if name == b"BITOP":
            target: bytes | None = words[2]
        elif name in (b"SORT", b"GEORADIUS", b"GEORADIUSBYMEMBER"):
            options = [word.upper() for word in words]
            at = next((options.index(word) for word in (b"STORE", b"STOREDIST") if word in options[2:]), None)
            target = None if at is None or at + 1 >= len(words) else words[at + 1]
        else:
            target = words[1]

        def answers(reply: Reply) -> bytes:
            if not reply.is_error and target is not None:
                self.forget(self._in(db, target))
            return reply.raw

        return Step(words, answers)

    def rename(self, db: int, words: list[bytes]) -> Step:
        """RENAME, RENAMENX, COPY, MOVE."""
        name = words[0].upper()
        options = [word.upper() for word in words]
        old, new = self._in(db, words[1]), self._in(db, words[2])
        if name == b"MOVE":
            new = (_whole(words[2]), words[1])
        elif name == b"COPY" and b"DB" in options[3:]:
            new = (_whole(words[options.index(b"DB") + 1]), words[2])

        def answers(reply: Reply) -> bytes:
            done = not reply.is_error and (name == b"RENAME" or bool(reply.value))
            if done and old != new:
                self.move(old, new, name == b"COPY")
            return reply.raw

        return Step(words, answers)

    def flush(self, db: int, words: list[bytes]) -> Step:
        """FLUSHDB, FLUSHALL."""
        only = db if words[0].upper() == b"FLUSHDB" else None

        def answers(reply: Reply) -> bytes:
            if not reply.is_error:
                self.forget_database(only)
            return reply.raw

        return Step(words, answers)

    def swap(self, db: int, words: list[bytes]) -> Step:
        """SWAPDB."""
        one, other = _whole(words[1]), _whole(words[2])

        def answers(reply: Reply) -> bytes:
            if not reply.is_error:
                swapped = {one: other, other: one}
                for table in (self.deadlines, self.used):
                    kept = {(swapped.get(key[0], key[0]), key[1]): value for key, value in table.items()}
                    table.clear()
                    table.update(kept)
            return reply.raw

        return Step(words, answers)

    # --- the clock itself -------------------------------------------------------------------------------

    def time(self, db: int, words: list[bytes]) -> Step:
        """TIME."""

        def answers(reply: Reply) -> bytes:
            now = self.now_ms()
            return array([blob(b"%d" % (now // 1000)), blob(b"%d" % (now % 1000 * 1000))])

        return Step([b"PING"], answers)

    def object(self, db: int, words: list[bytes]) -> Step | None:
        """OBJECT IDLETIME."""
        if words[1].upper() != b"IDLETIME":
            return None
        key = self._in(db, words[2])

        def answers(reply: Reply) -> bytes:
            if reply.is_error or reply.is_null:
                return reply.raw
            return number((self.now_ms() - self.used.get(key, self.now_ms())) // 1000)

        return Step(words, answers)

    # --- streams ----------------------------------------------------------------------------------------

    def xadd(self, db: int, words: list[bytes]) -> Step | None:
        """XADD: an id that the server makes has the rig's time."""
        place = 2
        while place < len(words):
            word = words[place].upper()
            if word == b"NOMKSTREAM":
                place += 1
            elif word in (b"MAXLEN", b"MINID"):
                place += 2 + (words[place + 1] in (b"=", b"~"))
            elif word == b"LIMIT":
                place += 2
            else:
                break
        if place >= len(words) or words[place] != b"*":
            return None
        return Step([*words[:place], b"%d-*" % self.now_ms(), *words[place + 1 :]], as_it_is)

    def xreadgroup(self, db: int, words: list[bytes]) -> Step:
        """XREADGROUP: note when the entries were delivered."""
        group = words[2]
        options = [word.upper() for word in words[:-1]]
        streams = words[options.index(b"STREAMS", 3) + 1 :] if b"STREAMS" in options[3:] else []
        ids = dict(zip(streams[: len(streams) // 2], streams[len(streams) // 2 :], strict=False))

        def answers(reply: Reply) -> bytes:
            if isinstance(reply.value, list) and b"NOACK" not in options[3:]:
                parts = reply.value
                pairs = zip(parts[::2], parts[1::2], strict=True) if reply.kind == b"%" else [p.value for p in parts]
                for stream, entries in pairs:
                    if ids.get(stream.value) == b">":
                        self._deliver(db, stream.value, group, [entry.value[0].value for entry in entries.value or ()])
            return reply.raw

        return Step(words, answers)

    def _deliver(self, db: int, stream: bytes, group: bytes, ids: Iterable[bytes], at: int | None = None) -> None:
        table = self.delivered.setdefault((db, stream, group), {})
        for id in ids:
            table[id] = self.now_ms() if at is None else at

    def _idle_ms(self, db: int, stream: bytes, group: bytes, id: bytes, real: int) -> int:
        """Return how long an entry is pending. `real` is what the server says, for one that it knew before the rig."""
        at = self.delivered.get((db, stream, group), {}).get(id)
        return real if at is None else self.now_ms() - at

    def xpending(self, db: int, words: list[bytes]) -> Step | None:
        """XPENDING with a range: idle times."""
        if len(words) < 6:
            return None
        least, kept = 0, list(words)
        if kept[3].upper() == b"IDLE":
            least = _whole(kept[4])
            del kept[3:5]
        if len(kept) < 6:
            return None
        count = _whole(kept[5])
        if least:
            kept[5] = b"1000000"  # the oldest are found here

        def answers(reply: Reply) -> bytes:
            if reply.is_error or not isinstance(reply.value, list):
                return reply.raw
            rows = []
            for row in reply.value:
                id, consumer, idle, times = row.value
                ms = self._idle_ms(db, words[1], words[2], id.value, idle.value)
                if ms >= least:
                    rows.append(array([id.raw, consumer.raw, number(ms), times.raw]))
            return array(rows[:count])

        return Step(kept, answers)

    def xack(self, db: int, words: list[bytes]) -> Step:
        """XACK: the entries are not pending any more."""

        def answers(reply: Reply) -> bytes:
            if not reply.is_error:
                table = self.delivered.get((db, words[1], words[2]), {})
                for id in words[3:]:
                    table.pop(id, None)
            return reply.raw

        return Step(words, answers)

    def xclaim(self, db: int, words: list[bytes]) -> Step:
        """XCLAIM: the entries that are idle long enough by the rig's time."""
        stream, group, least = words[1], words[2], _whole(words[4])
        place = 5
        while place < len(words) and _is_id(words[place]):
            place += 1
        ids, options = words[5:place], list(words[place:])
        at: int | None = None
        for name in (b"IDLE", b"TIME"):
            for spot, word in enumerate(options):
                if word.upper() == name and spot + 1 < len(options):
                    amount = _whole(options[spot + 1])
                    at = self.now_ms() - amount if name == b"IDLE" else amount
                    del options[spot : spot + 2]
                    break
        force = any(word.upper() == b"FORCE" for word in options)
        just_ids = any(word.upper() == b"JUSTID" for word in options)
        known = self.delivered.get((db, stream, group), {})
        chosen = [
            id for id in ids if (force and id not in known) or self._idle_ms(db, stream, group, id, least) >= least
        ]
        if not chosen:
            return Step([b"EXISTS", stream], lambda reply: array([]))

        def answers(reply: Reply) -> bytes:
            if isinstance(reply.value, list):
                claimed = [entry.value if just_ids else entry.value[0].value for entry in reply.value if entry.value]
                self._deliver(db, stream, group, claimed, at)
            return reply.raw

        return Step([*words[:4], b"0", *chosen, *options], answers)

    def xautoclaim(self, db: int, words: list[bytes]) -> Step:
        """XAUTOCLAIM: as XCLAIM, over what is pending. What is too young is given back in the answer's place."""
        stream, group, consumer, least, start = words[1], words[2], words[3], _whole(words[4]), words[5]
        options = [word.upper() for word in words[6:]]
        count = _whole(words[6 + options.index(b"COUNT") + 1]) if b"COUNT" in options else 100
        just_ids = b"JUSTID" in options
        table = self.delivered.get((db, stream, group), {})
        pending = sorted((id for id in table if _id(id) >= _id(start)), key=_id)
        chosen = [id for id in pending if self.now_ms() - table[id] >= least]
        rest = chosen[count:]
        chosen = chosen[:count]
        cursor = rest[0] if rest else b"0-0"
        if not chosen:
            return Step([b"EXISTS", stream], lambda reply: array([blob(b"0-0"), array([]), array([])]))

        def answers(reply: Reply) -> bytes:
            if reply.is_error or not isinstance(reply.value, list):
                return reply.raw
            found = [entry for entry in reply.value if not entry.is_null]
            claimed = [entry.value if just_ids else entry.value[0].value for entry in found]
            self._deliver(db, stream, group, claimed)
            gone = [id for id in chosen if id not in claimed]
            for id in gone:
                table.pop(id, None)
            return array([blob(cursor), array(entry.raw for entry in found), array(map(blob, gone))])

        return Step([b"XCLAIM", stream, group, consumer, b"0", *chosen, *([b"JUSTID"] if just_ids else [])], answers)

    # --- what a script has set --------------------------------------------------------------------------

    def adopt(self, key: Key, left_ms: int) -> None:
        """Take over the expiry that a script has given a key, in milliseconds from now."""
        self.deadlines[key] = self.now_ms() + left_ms


class _Refused(Exception):
    """The server would refuse the command, with this error."""


_TIMES = (b"EX", b"PX", b"EXAT", b"PXAT")


def _whole(word: bytes) -> int:
    try:
        return int(word)
    except ValueError:
        raise _Refused("ERR value is not an integer or out of range") from None


def _id(word: bytes) -> tuple[int, int]:
    ms, _, order = word.partition(b"-")
    return (0 if ms in (b"-", b"") else int(ms), int(order or 0))


def _is_id(word: bytes) -> bool:
    ms, _, order = word.partition(b"-")
    return ms.isdigit() and (not order or order.isdigit())


class _Rule(NamedTuple):
    make: Callable[[Times, int, list[bytes]], Step | None]
    least: int
    """How many words the command has at least. With fewer the server itself says what is wrong."""


_RULES: dict[bytes, _Rule] = {
    **{name: _Rule(Times.expire, 3) for name in (b"EXPIRE", b"PEXPIRE", b"EXPIREAT", b"PEXPIREAT")},
    **{name: _Rule(Times.ttl, 2) for name in (b"TTL", b"PTTL", b"EXPIRETIME", b"PEXPIRETIME")},
    b"PERSIST": _Rule(Times.persist, 2),
    b"SET": _Rule(Times.set, 3),
    b"SETEX": _Rule(Times.setex, 4), b"PSETEX": _Rule(Times.setex, 4),
    b"GETEX": _Rule(Times.getex, 2),
    b"RESTORE": _Rule(Times.restore, 4),
    **{name: _Rule(Times.overwrites, 2) for name in (b"GETSET", b"MSET", b"MSETNX", b"GETDEL")},
    **{
        name: _Rule(Times.stores, 3)
        for name in (
            b"SUNIONSTORE", b"SINTERSTORE", b"SDIFFSTORE", b"ZUNIONSTORE", b"ZINTERSTORE", b"ZDIFFSTORE",
            b"ZRANGESTORE", b"GEOSEARCHSTORE", b"BITOP", b"SORT", b"GEORADIUS", b"GEORADIUSBYMEMBER",
        )
    },
    **{name: _Rule(Times.rename, 3) for name in (b"RENAME", b"RENAMENX", b"COPY", b"MOVE")},
    b"FLUSHDB": _Rule(Times.flush, 1), b"FLUSHALL": _Rule(Times.flush, 1),
    b"SWAPDB": _Rule(Times.swap, 3),
    b"TIME": _Rule(Times.time, 1),
    b"OBJECT": _Rule(Times.object, 3),
    b"XADD": _Rule(Times.xadd, 5),
    b"XREADGROUP": _Rule(Times.xreadgroup, 7),
    b"XPENDING": _Rule(Times.xpending, 3),
    b"XACK": _Rule(Times.xack, 4),
    b"XCLAIM": _Rule(Times.xclaim, 6),
    b"XAUTOCLAIM": _Rule(Times.xautoclaim, 6),
}  # fmt: skip
