"""What a run leaves behind, and what the run without a fault has left: is something gone, or stuck, without a word?

Two ends are compared up to ids, times, counts of attempts, names of workers and words of errors. What is done twice is
the matter of other laws.
"""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, NamedTuple

from ..laws.law import Breach

if TYPE_CHECKING:
    from ..interpreter.databases.contents import Contents, Item
    from ..simulation.effects import Effect

VANISHES = "nothing_vanishes"
"""The law that what is there without a fault is there with it as well, or that something tells why it is not."""

STUCK = "nothing_stuck"
"""The law that nothing stays for ever where things only pass through without a fault."""

NUMBERS = "same_numbers"
"""The law that no number is another one than without a fault, if nothing else is different."""

ALIKE = "ends_alike"
"""The law that a run with a fault ends as the run without it does."""

OUTSIDE = "done outside"
"""The place of effects."""

_READS = frozenset(("GET", "HEAD", "OPTIONS", "TRACE"))
_NOISE = re.compile(
    r"(^|_)(id|uuid|tries|try|attempts?|retries|errors?|exception|traceback|reason|workers?|host|pid|owner|token|version|"
    r"beat|heartbeat|(locked|claimed|taken|picked)_?by)($|_)",
    re.IGNORECASE,
)
_TIMES = re.compile(r"^\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d(\.\d+)?)?([+-]\d\d(:?\d\d)?|Z)?)?$")
_IDS = re.compile(r"\b[0-9a-fA-F]{8}-(?:[0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}\b|\b(?=[a-fA-F]*\d)[0-9a-fA-F]{16,}\b")
_COUNTS = re.compile(
    r"stat|metric|fail|poll|runs?($|_)|hits?($|_)|miss|seen|check|calls?($|_)|deliver|seq|revision|position|offset",
    re.IGNORECASE,
)
# Numbers that count what is tried, and not what is done.
_DUE = re.compile(r"due|run_?at|run_?after|schedul|available|not_?before|next|score|retry|until|visible", re.IGNORECASE)
_NEAR_S = 400 * 86_400  # what is so near to now, as a number of seconds or parts of them, is a time
_UNITS = (1, 1_000, 1_000_000, 1_000_000_000)
_SHOWN = 2
_LONGEST = 90  # characters of a thing in words


class Found(NamedTuple):
    """One thing that is somewhere, in a form that is the same in every run."""

    place: str
    text: str

    def __str__(self) -> str:
        text = self.text if len(self.text) <= _LONGEST else f"{self.text[:_LONGEST]} ..."
        return f"{text} ({self.place})"


@dataclass
class EndState:
    """What is there at one instant. `later` are those things that say themselves that they wait for a time to come."""

    there: set[Found] = field(default_factory=set)
    later: set[Found] = field(default_factory=set)


def end_state(contents: Contents, effects: Iterable[Effect], now_ns: int) -> EndState:
    """Return what is in the databases, and what was done outside, at an instant."""
    state = EndState()
    for place, items in contents.items():
        for item in items:
            if _COUNTS.search(place) and _is_number(item.value):
                continue
            plain = _Plain(now_ns)
            found = Found(place, json.dumps(plain.of(item), sort_keys=True, ensure_ascii=False, default=str))
            state.there.add(found)
            if plain.is_later:
                state.later.add(found)
    for effect in effects:
        if effect.outcome in ("done", "repeated") and effect.data.get("method") not in _READS:
            key = _Plain(now_ns).value(effect.key)
            text = effect.name if key is None else f"{effect.name} of {key!r}"
            state.there.add(Found(OUTSIDE, text))
    return state


class Passages:
    """What was somewhere in the run without a fault, and is not there at its end."""

    def __init__(self) -> None:
        self._seen: set[Found] = set()

    @property
    def has_data(self) -> bool:
        """True if anything was ever in a database."""
        return any(one.place != OUTSIDE for one in self._seen)

    def note(self, state: EndState) -> None:
        """Note what is there now."""
        self._seen.update(state.there)

    def through(self, end: EndState) -> tuple[set[Found], set[str]]:
        """Return the things, and the whole places, that only pass."""
        left = {found.place for found in end.there}
        return {one for one in self._seen if one not in end.there}, {one.place for one in self._seen} - left


def compared(plain: EndState, passages: Passages, end: EndState, alike: bool = False) -> list[Breach]:
    """Return what is wrong with the end of a run with a fault.

    Parameters: `plain` is the end of the run without one. `alike` is True if every difference is wrong.
    """
    passing, places = passages.through(plain)
    missing, more = sorted(plain.there - end.there), sorted(end.there - plain.there)
    stuck = [one for one in more if (one in passing or one.place in places) and one not in end.later]
    if stuck:
        words = f"{_listed(stuck)} {_stays(stuck)} there; without the fault that is only passed through"
        return [Breach(words, law=STUCK)]
    pairs = _other_numbers(missing, more)
    if pairs:
        (was, now), *others = pairs
        rest = f", and {len(others)} more differ" if others else ""
        return [Breach(f"{now} was {was.text} without the fault{rest}", law=NUMBERS)]
    if missing and not more:
        return [Breach(f"{_listed(missing)} {_is(missing)} missing, and nothing else tells of it", law=VANISHES)]
    if alike and (missing or more):
        parts = [f"{_listed(more)} {_is(more)} there" if more else "", f"{_listed(missing)} missing" if missing else ""]
        return [Breach(f"it does not end as without the fault: {'; '.join(filter(None, parts))}", law=ALIKE)]
    return []


def _other_numbers(missing: Sequence[Found], more: Sequence[Found]) -> list[tuple[Found, Found]]:
    """Return what is missing and what is there in its place, if each pair differs in one number and in nothing else."""
    if not missing or len(missing) != len(more):
        return []
    pairs = []
    left = list(more)
    for was in missing:
        if was.place == OUTSIDE:
            return []
        now = next((one for one in left if one.place == was.place and _one_number(was, one)), None)
        if now is None:
            return []
        left.remove(now)
        pairs.append((was, now))
    return pairs


def _one_number(was: Found, now: Found) -> bool:
    first, second = json.loads(was.text), json.loads(now.text)
    if not isinstance(first, dict) or not isinstance(second, dict) or first.keys() != second.keys():
        return _is_number(first) and _is_number(second)
    differ = [name for name in first if first[name] != second[name]]
    if len(differ) != 1:
        return False
    return _is_number(first[differ[0]]) and _is_number(second[differ[0]])


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def is_alike(plain: EndState, end: EndState) -> bool:
    """Return True if two ends are alike."""
    return plain.there == end.there


def _listed(found: Sequence[Found]) -> str:
    rest = len(found) - _SHOWN
    return ", ".join(map(str, found[:_SHOWN])) + (f" and {rest} more" if rest > 0 else "")


def _is(found: Sequence[Found]) -> str:
    return "is" if len(found) == 1 else "are"


def _stays(found: Sequence[Found]) -> str:
    return "stays" if len(found) == 1 else "stay"


class _Plain:
    """Makes values plain: what can differ from run to run is a star. `is_later`: a time in them has not come yet."""

    def __init__(self, now_ns: int) -> None:
        self._now_ns = now_ns
        self.is_later = False

    def of(self, item: Item) -> Any:
        """Return an item in plain form."""
        if isinstance(item.value, Mapping):
            return self._mapping({name: value for name, value in item.value.items() if name not in item.numbers})
        return self.value(item.value)

    def value(self, value: Any, name: str = "") -> Any:
        """Return a value in plain form."""
        if isinstance(value, Mapping):
            return self._mapping(value)
        if isinstance(value, (list, tuple)):
            return [self.value(one) for one in value]
        if isinstance(value, bool) or value is None:
            return value
        if isinstance(value, (int, float)):
            return self._number(value, name)
        text = str(value)
        if text[:1] in "{[":
            try:
                return self.value(json.loads(text))
            except ValueError:
                pass
        if _TIMES.match(text):
            self._note_time(text, name)
            return "*"
        try:
            return self._number(float(text), name) if text[:1].isdigit() and len(text) >= 10 else _IDS.sub("*", text)
        except ValueError:
            return _IDS.sub("*", text)

    def _mapping(self, value: Mapping[Any, Any]) -> dict[str, Any]:
        return {
            str(name): self.value(one, str(name))
            for name, one in value.items()
            if not _NOISE.search(str(name)) and not (_is_number(one) and _COUNTS.search(str(name)))
        }

    def _number(self, value: float, name: str) -> Any:
        for unit in _UNITS:
            if abs(value - self._now_ns / 1e9 * unit) < _NEAR_S * unit:
                self._note_instant(value / unit, name)
                return "*"
        return value

    def _note_instant(self, seconds: float, name: str) -> None:
        self.is_later |= seconds > self._now_ns / 1e9 and _DUE.search(name) is not None

    def _note_time(self, text: str, name: str) -> None:
        try:
            at = dt.datetime.fromisoformat(text.replace(" ", "T"))
        except ValueError:
            return
        self._note_instant((at if at.tzinfo is not None else at.replace(tzinfo=dt.UTC)).timestamp(), name)
