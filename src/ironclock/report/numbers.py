"""Numbers and durations as a person reads them: three figures or so."""

from __future__ import annotations

from ..core.durations import NS, spell


def number(value: float) -> str:
    """Return a number as a person reads it: three figures or so."""
    if value == float("inf"):
        return "never"
    if abs(value) >= 100 or value == int(value):
        return f"{value:,.0f}"
    return f"{value:.3g}"


def seconds(value: float) -> str:
    """Return seconds as a duration of two units or so."""
    if value == float("inf"):
        return "not in the span"
    if value >= 3600:
        value = round(value / 60) * 60
    elif value >= 10:
        value = round(value)
    else:
        value = float(f"{value:.2g}")
    return spell(round(value * NS))
