"""Durations: many ways to write one; inside, a whole number of nanoseconds."""

from __future__ import annotations

import math
import re
from datetime import timedelta
from functools import lru_cache
from typing import TypeAlias

from ..errors import DurationError

NS = 1_000_000_000
"""Nanoseconds in a second."""

Duration: TypeAlias = "timedelta | int | float | str"
"""How a duration can be given: a `timedelta`, seconds, text such as ``"1h30m"``, or ISO 8601 (``"PT15M"``)."""

_UNITS = {
    "w": 7 * 86_400 * NS,
    "d": 86_400 * NS,
    "h": 3_600 * NS,
    "m": 60 * NS,
    "min": 60 * NS,
    "s": NS,
    "ms": 1_000_000,
    "us": 1_000,
    "ns": 1,
}
_PART = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(min|ms|us|ns|w|d|h|m|s)", re.ASCII)
_ISO = re.compile(
    r"P(?:(?P<w>\d+(?:[.,]\d+)?)W)?(?:(?P<d>\d+(?:[.,]\d+)?)D)?"
    r"(?:T(?:(?P<h>\d+(?:[.,]\d+)?)H)?(?:(?P<m>\d+(?:[.,]\d+)?)M)?(?:(?P<s>\d+(?:[.,]\d+)?)S)?)?",
    re.ASCII,
)
_LONGEST_S = 1000 * 366 * 86_400
_LONGEST = _LONGEST_S * NS
_HOW = "give a timedelta, a number of seconds, text such as '1h30m' or '250ms', or ISO 8601 such as 'PT15M'"


def to_ns(value: Duration, *, what: str = "duration") -> int:
    """Return a duration as whole nanoseconds.

    Parameters: `value` as in `Duration`; `what` is its name in an error message.

    Raises `DurationError` if it cannot be read, is negative or not finite, or is over 1000 years. Source of the
    ``P...`` form: ISO 8601-1:2019, 5.5.2 (years and months are refused: they have no fixed length).
    """
    if type(value) is int and 0 <= value <= _LONGEST_S:  # the most usual case
        return value * NS
    if isinstance(value, timedelta):
        ns = ((value.days * 86_400 + value.seconds) * 1_000_000 + value.microseconds) * 1_000
    elif isinstance(value, bool):
        raise DurationError(f"{what} is {value!r}; {_HOW}")
    elif isinstance(value, int):
        ns = value * NS
    elif isinstance(value, float):
        if not math.isfinite(value):
            raise DurationError(f"{what} is {value!r}, which is not a finite number of seconds; {_HOW}")
        ns = round(value * NS)
    elif isinstance(value, str):
        ns = _parse(value, what)
    else:
        raise DurationError(f"{what} is {value!r} ({type(value).__name__}); {_HOW}")
    if ns < 0:
        raise DurationError(f"{what} is {value!r}, which is negative; time in a rig only goes forward")
    if ns > _LONGEST:
        raise DurationError(f"{what} is {value!r}, which is over 1000 years; give a shorter one")
    return ns


def signed_ns(value: Duration, *, what: str = "by") -> int:
    """Return a duration that can be negative (``"-1h"``) as whole nanoseconds. Raises `DurationError`."""
    if isinstance(value, str) and value.strip()[:1] == "-":
        return -to_ns(value.strip()[1:], what=what)
    if isinstance(value, (int, float)) and not isinstance(value, bool) and value < 0:
        return -to_ns(-value, what=what)
    if isinstance(value, timedelta) and value < timedelta():
        return -to_ns(-value, what=what)
    return to_ns(value, what=what)


@lru_cache(maxsize=256)
def _parse(text: str, what: str) -> int:
    body = text.strip()
    if body[:1] in "+-" and body[1:]:
        sign, body = body[0], body[1:]
        if sign == "-":
            raise DurationError(f"{what} is {text!r}, which is negative; time in a rig only goes forward")
    if body[:1] == "P":
        found = _ISO.fullmatch(body)
        if found and any(found.groups()) and not body.endswith("T"):
            return sum(_scaled(n.replace(",", "."), unit) for unit, n in found.groupdict().items() if n)
        raise DurationError(
            f"{what} {text!r} is not an ISO 8601 duration of weeks, days, hours, minutes and seconds; "
            "years and months have no fixed length, give days"
        )
    total, at = 0, 0
    while at < len(body):
        part = _PART.match(body, at)
        if part is None:
            raise DurationError(f"{what} {text!r} cannot be read at {body[at:]!r}; {_HOW}")
        total += _scaled(part[1], part[2])
        at = part.end()
    if not at:
        raise DurationError(f"{what} {text!r} is empty; {_HOW}")
    return total


def _scaled(number: str, unit: str) -> int:
    """Return a decimal number of units in nanoseconds, exactly: '0.1s' is 100,000,000 ns and never one less."""
    whole, _, fraction = number.partition(".")
    scale = _UNITS[unit]
    return int(whole) * scale + (int(fraction) * scale // 10 ** len(fraction) if fraction else 0)


def spell(ns: int) -> str:
    """Return a duration in words short enough for a table: ``"1h30m"``, ``"2.5s"``, ``"250ms"``."""
    if ns < 0:
        return "-" + spell(-ns)
    if ns == 0:
        return "0s"
    if ns < NS:
        for unit in ("ms", "us", "ns"):
            scale = _UNITS[unit]
            if ns >= scale:
                return f"{ns / scale:.4g}{unit}"
    words = ""
    for unit in ("d", "h", "m"):
        count, ns = divmod(ns, _UNITS[unit])
        if count:
            words += f"{count}{unit}"
    seconds, rest = divmod(ns, NS)
    if rest:
        words += f"{seconds}.{rest:09d}".rstrip("0") + "s"
    elif seconds:
        words += f"{seconds}s"
    return words


def to_timedelta(ns: int) -> timedelta:
    """Return whole nanoseconds as a `timedelta`, which has microseconds and nothing finer."""
    return timedelta(microseconds=ns // 1_000)
