"""Numbers and durations for people: about three figures."""

from __future__ import annotations

from ..foundation.durations import NS, spell


def number(value: float) -> str:
    """Return a number for people: about three figures."""
    if value == float("inf"):
        return "never"
    if abs(value) >= 100 or value == int(value):
        return f"{value:,.0f}"
    return f"{value:.3g}"


def seconds(value: float) -> str:
    """Return seconds as a duration for people: about two units."""
    if value == float("inf"):
        return "not in the span"
    if value >= 3600:
        value = round(value / 60) * 60
    elif value >= 10:
        value = round(value)
    else:
        value = float(f"{value:.2g}")
    return spell(round(value * NS))
