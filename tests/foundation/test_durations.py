"""Durations and instants: what parses, exactly, and what is refused in words."""

from __future__ import annotations

from datetime import datetime, timedelta, timezone
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ironclock.errors import DurationError, InstantError, IronClockError, ZoneError
from ironclock.foundation.durations import NS, spell, to_ns
from ironclock.foundation.instants import Timeline


@pytest.mark.parametrize(
    ("given", "seconds"),
    [
        (90, 90), (1.5, 1.5), ("1h30m", 5400), ("250ms", 0.25), ("PT15M", 900), ("P1DT2H", 93600), ("1.5h", 5400),
        ("2w", 1209600), ("10 min", 600), ("1d 2h", 93600), ("PT0.5S", 0.5), ("P2W", 1209600), (timedelta(minutes=3), 180),
        ("+5s", 5), (0, 0), ("7us", 7e-6),
    ],
)  # fmt: skip
def test_what_a_duration_may_be(given: object, seconds: float) -> None:
    assert to_ns(given) == round(seconds * NS)  # type: ignore[arg-type]


def test_a_decimal_is_exact() -> None:
    assert to_ns("0.1s") == 100_000_000
    assert to_ns("0.000000001s") == 1
    assert to_ns("3ns") == 3


@pytest.mark.parametrize(
    "given", ["", "5 parsecs", "1h30", "-5s", -1, float("nan"), float("inf"), True, None, "P1Y", "P1M", "PT", "P", "h", "1h-5m",
              timedelta(seconds=-1), [5], "1e9d", "2000000w", "PT15M ago"],
)  # fmt: skip
def test_what_a_duration_may_not_be(given: object) -> None:
    with pytest.raises(DurationError) as caught:
        to_ns(given, what="after")  # type: ignore[arg-type]
    assert "after" in str(caught.value)
    assert repr(given) in str(caught.value)


@given(st.integers(0, 10**17))
def test_what_is_spelt_is_read_again(ns: int) -> None:
    # Below a second four digits are kept, above it everything.
    again = to_ns(spell(ns))
    assert again == ns if ns >= NS else abs(again - ns) <= ns / 1000


@given(st.text(max_size=20))
def test_no_text_breaks_the_parser(text: str) -> None:
    try:
        assert to_ns(text) >= 0
    except IronClockError:
        pass


def test_instants() -> None:
    timeline = Timeline("Atlantic/Faroe")
    summer = timeline.ns("2031-07-01T12:00")
    assert summer == timeline.ns("2031-07-01T11:00+00:00") == timeline.ns("2031-07-01T11:00Z")
    assert summer == timeline.ns(datetime(2031, 7, 1, 11, tzinfo=timezone.utc))
    assert timeline.text(summer) == "2031-07-01T12:00:00+01:00"
    assert timeline.text(summer + 1) == "2031-07-01T12:00:00.000000001+01:00"
    assert timeline.at(summer) == datetime(2031, 7, 1, 12, tzinfo=ZoneInfo("Atlantic/Faroe"))
    assert timeline.ns("2031-10-26T01:30") == timeline.ns("2031-10-26T00:30Z"), "the first of a doubled hour"


@pytest.mark.parametrize(
    ("given", "says"),
    [
        (datetime(2031, 1, 1), "naive"), ("yesterday", "ISO 8601"), ("2031-03-30T01:30", "clock change skips it"),
        (5, "aware datetime"), (None, "aware datetime"), ("2031-13-01", "ISO 8601"),
    ],
)  # fmt: skip
def test_instants_that_are_none(given: object, says: str) -> None:
    with pytest.raises(InstantError, match=says):
        Timeline("Atlantic/Faroe").ns(given)  # type: ignore[arg-type]


@pytest.mark.parametrize("zone", ["Atlantic/Nowhere", "", "../etc/passwd", 3, None, "/abs", "a\0b"])
def test_zones_that_are_none(zone: object) -> None:
    with pytest.raises(ZoneError, match="tz database"):
        Timeline(zone)  # type: ignore[arg-type]
