"""Distributions of durations: how long something takes if that is not always the same."""

from __future__ import annotations

import math
import random
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache, cached_property
from typing import Any

from ..errors import DurationError, nearest
from .durations import Duration, spell, to_ns

_US = 1_000


class Spread:
    """A distribution of durations. A subclass has `mean_ns`, `quantile` and `describe`."""

    @property
    def mean_ns(self) -> float:
        """The mean, in nanoseconds."""
        raise NotImplementedError

    def quantile(self, share: float) -> float:
        """Return the duration in nanoseconds that a share (0 < share < 1) of all durations does not exceed."""
        raise NotImplementedError

    def draw(self, chance: random.Random) -> int:
        """Return one duration in nanoseconds, a whole number of microseconds."""
        # By inversion: one number of the generator for each duration, whatever the distribution. The last bits of a
        # logarithm differ between machines; whole microseconds do not.
        return round(self.quantile(chance.random() or 5e-17) / _US) * _US

    def describe(self) -> str:
        """Return the distribution in words."""
        raise NotImplementedError


@dataclass(frozen=True)
class Fixed(Spread):
    """Always the same."""

    ns: int

    @property
    def mean_ns(self) -> float:
        return self.ns

    def quantile(self, share: float) -> float:
        return self.ns

    def draw(self, chance: random.Random) -> int:
        return self.ns

    def describe(self) -> str:
        return spell(self.ns)


@dataclass(frozen=True)
class Exponential(Spread):
    """The exponential distribution with a mean: the service time of the M/M/c queue."""

    mean: int

    @property
    def mean_ns(self) -> float:
        return self.mean

    def quantile(self, share: float) -> float:
        return -self.mean * math.log1p(-share)

    def describe(self) -> str:
        return f"{spell(self.mean)} on average, memoryless"


@dataclass(frozen=True)
class LogNormal(Spread):
    """The log-normal distribution, given by its median and its 95 % quantile: skewed to the right."""

    median: int
    p95: int

    @cached_property
    def sigma(self) -> float:
        """The standard deviation of the logarithm."""
        return math.log(self.p95 / self.median) / _normal(0.95)

    @property
    def mean_ns(self) -> float:
        return self.median * math.exp(self.sigma**2 / 2)

    def quantile(self, share: float) -> float:
        return self.median * math.exp(self.sigma * _normal(share))

    def describe(self) -> str:
        return f"{spell(self.median)} in the median, 95 % within {spell(self.p95)}"


@dataclass(frozen=True)
class Uniform(Spread):
    """The uniform distribution between two durations."""

    low: int
    high: int

    @property
    def mean_ns(self) -> float:
        return (self.low + self.high) / 2

    def quantile(self, share: float) -> float:
        return self.low + (self.high - self.low) * share

    def describe(self) -> str:
        return f"{spell(self.low)} to {spell(self.high)}"


@dataclass(frozen=True)
class Measured(Spread):
    """Measured durations, in order; between them it interpolates."""

    sorted_ns: tuple[int, ...]

    @property
    def mean_ns(self) -> float:
        known = self.sorted_ns
        if len(known) == 1:
            return known[0]
        return (sum(known) - (known[0] + known[-1]) / 2) / (len(known) - 1)

    def quantile(self, share: float) -> float:
        known = self.sorted_ns
        place = share * (len(known) - 1)
        below = int(place)
        if below + 1 >= len(known):
            return known[-1]
        return known[below] + (known[below + 1] - known[below]) * (place - below)

    def describe(self) -> str:
        return f"as {len(self.sorted_ns)} measured, {spell(round(self.quantile(0.5)))} in the median"


FORMS = {
    ("mean",): "exponential",
    ("median", "p95"): "log-normal",
    ("from", "to"): "uniform",
    ("measured",): "measured durations",
}


def spread_of(given: Spread | Duration | Mapping[str, Any], *, what: str = "takes") -> Spread:
    """Return a distribution.

    Parameters: `value` is a duration (always the same), ``{"mean": d}`` (exponential), ``{"median": d, "p95": d}``
    (log-normal), ``{"from": d, "to": d}`` (uniform) or ``{"measured": [d, ...]}`` (interpolates between these).

    Raises `DurationError` for anything else.
    """
    if isinstance(given, Spread):
        return given
    if not isinstance(given, Mapping):
        return Fixed(to_ns(given, what=what))
    keys = tuple(sorted(given))
    if keys not in FORMS:
        known = {key for form in FORMS for key in form}
        odd = next((key for key in keys if key not in known), None)
        raise DurationError(
            f"{what} has the keys {', '.join(map(str, keys)) or 'none'}; give a duration, or mean, or median and p95, "
            "or from and to, or measured" + (f"; {nearest(str(odd), known)}" if odd is not None else "")
        )
    if keys == ("measured",):
        values = given["measured"]
        if not isinstance(values, Sequence) or isinstance(values, str) or not values:
            raise DurationError(f"{what} is measured as {values!r}; give a list of durations")
        return Measured(tuple(sorted(to_ns(value, what=f"{what}.measured") for value in values)))
    first, *rest = (to_ns(given[key], what=f"{what}.{key}") for key in keys)
    if keys == ("mean",):
        if first == 0:
            raise DurationError(f"{what}.mean is 0; give a duration")
        return Exponential(first)
    second = rest[0]
    low, high = keys
    if second < first or (low == "median" and not 0 < first < second):
        raise DurationError(f"{what}: {high} is {spell(second)}, which must be above {low}, {spell(first)}")
    return LogNormal(first, second) if low == "median" else Uniform(first, second)


@cache
def _standard() -> Any:
    from statistics import NormalDist

    return NormalDist()


def _normal(share: float) -> float:
    return float(_standard().inv_cdf(share))
