"""Cron fields: text is read into sets of numbers. Errors show a caret under what is wrong."""

from __future__ import annotations

import re
from dataclasses import dataclass

from ..errors import CronError

_MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"]
_DAYS = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"]
NICKNAMES = {
    "@yearly": "0 0 1 1 *", "@annually": "0 0 1 1 *", "@monthly": "0 0 1 * *", "@weekly": "0 0 * * 0",
    "@daily": "0 0 * * *", "@midnight": "0 0 * * *", "@hourly": "0 * * * *",
}  # fmt: skip


@dataclass(frozen=True)
class Kind:
    """One kind of field: its name, its range, and the names that mean numbers in it."""

    name: str
    low: int
    high: int
    names: tuple[str, ...] = ()
    first: int = 0


SECOND, MINUTE, HOUR = Kind("second", 0, 59), Kind("minute", 0, 59), Kind("hour", 0, 23)
DAY, MONTH = Kind("day of the month", 1, 31), Kind("month", 1, 12, tuple(_MONTHS), 1)
WEEKDAY = Kind("day of the week", 0, 7, tuple(_DAYS))


@dataclass(frozen=True)
class Field:
    """One field as it was read: if its text begins with a star, the plain numbers, and the special days."""

    star: bool
    values: frozenset[int]
    step: int = 1
    """The step of a star (``*/15``)."""
    last: tuple[int, ...] = ()
    """Days before the last day of the month: 0 for ``L``, 3 for ``L-3``."""
    last_workday: bool = False
    nearest: frozenset[int] = frozenset()
    """Days of the month whose nearest workday is meant (``15W``)."""
    nth: frozenset[tuple[int, int]] = frozenset()
    """Weekdays with their number in the month (``2#1``)."""
    last_of: frozenset[int] = frozenset()
    """Weekdays of which the last in the month is meant (``5L``)."""

    @property
    def plain_star(self) -> bool:
        """True for a star without a step."""
        return self.star and self.step == 1


class _Reader:
    """Reads one field, and knows its place in the whole expression."""

    def __init__(self, kind: Kind, text: str, at: int, expression: str) -> None:
        self.kind, self.text, self.at, self.expression = kind, text, at, expression

    def fail(self, why: str, offset: int = 0, length: int = 1) -> CronError:
        kind = self.kind
        span = f"{kind.low}-{kind.high}" + (f" or {kind.names[0]}-{kind.names[-1]}" if kind.names else "")
        caret = " " * (self.at + offset) + "^" * max(1, length)
        shown = "".join(c if c.isprintable() else "?" for c in self.expression)
        return CronError(f"{why} in the {kind.name} field ({span})\n  {shown}\n  {caret}")

    def read(self) -> Field:
        star = self.text[:1] in ("*", "?")
        values: set[int] = set()
        last: list[int] = []
        last_workday = False
        nearest: set[int] = set()
        nth: set[tuple[int, int]] = set()
        last_of: set[int] = set()
        offset = 0
        parts = self.text.split(",")
        for part in parts:
            upper = part.upper()
            if not part:
                raise self.fail("an empty entry", min(offset, max(0, len(self.text) - 1)))
            if self.kind is DAY and (found := re.fullmatch(r"L(?:-(\d{1,2}))?", upper)):
                back = int(found[1] or 0)
                if back > 30:
                    raise self.fail(f"L-{back} is before the first day", offset, len(part))
                last.append(back)
            elif self.kind is DAY and upper in ("LW", "WL"):
                last_workday = True
            elif self.kind is DAY and (found := re.fullmatch(r"(\d{1,2})W", upper)):
                nearest.add(self.number(found[1], offset))
            elif self.kind is WEEKDAY and (found := re.fullmatch(r"(\w+)#(\d+)", part, re.ASCII)):
                count = int(found[2][:4])
                if not 1 <= count <= 5:
                    raise self.fail(
                        f"#{count} is not a week of a month (1-5)", offset + len(found[1]), 1 + len(found[2])
                    )
                nth.add((self.number(found[1], offset) % 7, count))
            elif self.kind is WEEKDAY and (found := re.fullmatch(r"(\d|[a-z]{3})L", part, re.IGNORECASE | re.ASCII)):
                last_of.add(self.number(found[1], offset) % 7)
            else:
                values |= self.span(part, offset)
            offset += len(part) + 1
        if self.kind is WEEKDAY:
            values = {v % 7 for v in values}
        step = int(self.text[2:]) if star and len(parts) == 1 and len(self.text) > 2 else 1
        return Field(
            star, frozenset(values), step, tuple(sorted(set(last))), last_workday, frozenset(nearest), frozenset(nth),
            frozenset(last_of),
        )  # fmt: skip

    def span(self, part: str, offset: int) -> set[int]:
        body, slash, step_text = part.partition("/")
        step = 1
        if slash:
            if not re.fullmatch(r"\d{1,4}", step_text, re.ASCII) or int(step_text) == 0:
                raise self.fail(
                    f"the step is {step_text!r}, not a number from 1", offset + len(body) + 1, len(step_text)
                )
            step = int(step_text)
        kind = self.kind
        if body == "*" or (body == "?" and kind in (DAY, WEEKDAY)):
            high = 6 if kind is WEEKDAY else kind.high
            return set(range(kind.low, high + 1, step))
        first_text, dash, last_text = body.partition("-")
        first = self.number(first_text, offset)
        if not dash:
            # "10/15" means to the end of the field, as the usual daemons read it.
            return set(range(first, (6 if kind is WEEKDAY else kind.high) + 1, step)) if slash else {first}
        last = self.number(last_text, offset + len(first_text) + 1)
        if first <= last:
            return set(range(first, last + 1, step))
        size = 7 if kind is WEEKDAY else kind.high - kind.low + 1
        return {(v - kind.low) % size + kind.low for v in range(first, last + size + 1, step)}

    def number(self, text: str, offset: int) -> int:
        kind = self.kind
        if text.lower() in kind.names:
            return kind.names.index(text.lower()) + kind.first
        if not re.fullmatch(r"\d{1,4}", text, re.ASCII):
            shown = repr(text) if text else "nothing"
            raise self.fail(f"{shown} instead of a number{' or name' if kind.names else ''}", offset, len(text))
        value = int(text)
        if not kind.low <= value <= kind.high:
            raise self.fail(f"{value} is out of range", offset, len(text))
        return value


def read(expression: str) -> list[Field]:
    """Return the six fields of an expression, seconds first (0 where it has five).

    Raises `CronError`, with a caret under the place. Source of the five fields: POSIX.1-2017, crontab.
    """
    if not isinstance(expression, str):
        raise CronError(f"the cron expression is {expression!r}; give text")
    text = expression.strip()
    if text.startswith("@"):
        known = NICKNAMES.get(text.lower())
        if known is None:
            names = ", ".join([*NICKNAMES, "@reboot"])
            raise CronError(f"unknown nickname {text!r}; known: {names}")
        text = known
    words = [(found[0], found.start()) for found in re.finditer(r"\S+", text)]
    if len(words) not in (5, 6):
        order = "minute hour day month weekday, with seconds first for six"
        raise CronError(f"{expression!r} has {len(words)} fields; give five or six ({order})")
    kinds = [SECOND, MINUTE, HOUR, DAY, MONTH, WEEKDAY][6 - len(words) :]
    fields = [_Reader(kind, word, at, text).read() for kind, (word, at) in zip(kinds, words, strict=True)]
    return fields if len(fields) == 6 else [Field(False, frozenset({0})), *fields]
