"""Replay tokens: a plan as one short line of text, with marks that show if the story has changed since.

A token is ``ic1-`` and, in base 64 for URLs (RFC 4648, section 5), the compressed (RFC 1950) JSON text of the plan.
"""

from __future__ import annotations

import base64
import hashlib
import json
import re
import zlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from ..errors import InputError
from ..history.history import History
from .plan import WORDS, Move, Place, Plan

_VERSION = "1"
PREFIX = f"ic{_VERSION}-"
_OTHER_VERSION = re.compile(r"ic(\d+)-")
MARKS = 12
"""At how many points of the history a token has a mark."""

_WORDS = (
    b'"kept":["sleep","commit","after commit","before commit","begin","due","firing","schedule ","request ",'
    b'"deliver_twice","lose_ack","refuse_enqueue","fetch_early","miss_firing","takes","hang",60000000000,"slow",'
    b'"delay","delivery","ack","enqueue","after enqueue","/thread 1","first","lines":["start":"20","errors":'
    b'{"marks":[0,"switch","before ","after ","start",1,"fail",0]],"crash",0]],{"moves":[["-1/1","'
)


@dataclass(frozen=True)
class Token:
    """The content of a token: the plan, the modules whose lines are switch points, the errors, the kinds of real calls
    that are seams, whether errors strike the last attempt of a job as well, marks of the history. `test` is a short
    digest of the name of the test that it is of (empty: none), `rig` which of its rigs it is about."""

    plan: Plan
    lines: tuple[str, ...] = ()
    errors: Mapping[str, str] = field(default_factory=dict)
    seams: tuple[str, ...] = ()
    exhausts: bool = False
    entries: int = 0
    marks: str = ""
    test: str = ""
    rig: int = 1

    def text(self) -> str:
        """Return the token as one line."""
        held: dict[str, Any] = {"moves": [[*move.place, move.kind, move.by] for move in self.plan.moves]}
        if self.plan.start is not None:
            held["start"] = self.plan.start
        if self.plan.kept is not None:
            held["kept"] = list(self.plan.kept)
        if self.lines:
            held["lines"] = list(self.lines)
        if self.errors:
            held["errors"] = dict(self.errors)
        if self.seams:
            held["seams"] = list(self.seams)
        if self.exhausts:
            held["exhausts"] = True
        if self.test:
            held["test"] = self.test
        if self.rig > 1:
            held["rig"] = self.rig
        held["marks"] = [self.entries, self.marks]
        squeezer = zlib.compressobj(9, zdict=_WORDS)
        packed = squeezer.compress(json.dumps(held, separators=(",", ":")).encode()) + squeezer.flush()
        return PREFIX + base64.urlsafe_b64encode(packed).decode().rstrip("=")


def read(text: str) -> Token:
    """Return the content of a token. Raises `InputError` for other text, and for a token that was cut."""
    if not isinstance(text, str) or not text.strip().startswith(PREFIX):
        other = _OTHER_VERSION.match(text.strip()) if isinstance(text, str) else None
        if other is not None:
            raise InputError(
                f"the replay token {text!r} is of version {other[1]}, and this Iron Clock reads version {_VERSION}; "
                "search again to get a new one"
            )
        raise InputError(f"the replay token is {text!r}; a token begins with {PREFIX!r}, copy it from the finding")
    body = text.strip().removeprefix(PREFIX)
    try:
        packed = base64.b64decode(body + "=" * (-len(body) % 4), altchars=b"-_", validate=True)
        spreader = zlib.decompressobj(zdict=_WORDS)
        held = json.loads(spreader.decompress(packed, 1 << 20) + spreader.flush())
        if not spreader.eof:
            raise ValueError("it ends too early")
        moves = tuple(Move(Place(who, where, visit), kind, by) for who, where, visit, kind, by in held["moves"])
        unknown = next((move.kind for move in moves if move.kind not in WORDS), None)
        if unknown is not None:
            raise InputError(
                f"the replay token {text!r} has the fault {unknown!r}, which this Iron Clock does not know; it was "
                "made by another version, search again to get a new one"
            )
        plan = Plan(moves, held.get("start"), None if "kept" not in held else tuple(held["kept"]))
        entries, marks = held["marks"]
        return Token(
            plan, tuple(held.get("lines", ())), held.get("errors", {}), tuple(held.get("seams", ())),
            held.get("exhausts", False), entries, marks, held.get("test", ""), held.get("rig", 1),
        )  # fmt: skip
    except (ValueError, KeyError, TypeError, zlib.error) as error:
        raise InputError(f"the replay token {text!r} is damaged: {error}; copy the whole of it") from None


def marks_of(history: History) -> tuple[int, str]:
    """Return how many entries a history has, and two hexadecimal digits for each of at most `MARKS` points in it."""
    prints = _prints(history)
    return len(prints), "".join(prints[n] for n in _points(len(prints)))


def first_difference(token: Token, history: History) -> str:
    """Say where a history begins to differ from that of the token. Empty if it does not."""
    prints = _prints(history)
    same = -1
    for number, point in enumerate(_points(token.entries)):
        if point >= len(prints):
            break
        if prints[point] != token.marks[2 * number : 2 * number + 2]:
            return (
                f"it differs at entry {same + 2}"
                if point == same + 1
                else f"it differs between entry {same + 2} and {point + 1}"
            )
        same = point
    if len(prints) == token.entries:
        return ""
    return f"it is the same up to entry {same + 1}, and has {len(prints)} entries instead of {token.entries}"


def _points(count: int) -> list[int]:
    """Return the entries with marks: every entry of a short history, evenly spaced entries of a long one."""
    if count <= MARKS:
        return list(range(count))
    return [(n + 1) * count // MARKS - 1 for n in range(MARKS)]


def _prints(history: History) -> list[str]:
    """Return two digits for each entry. They depend on all entries before it."""
    total = hashlib.sha256()
    found = []
    for line in history.lines():
        total.update(line)
        found.append(total.hexdigest()[:2])
    return found
