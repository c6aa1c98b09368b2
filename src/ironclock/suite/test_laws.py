"""The laws of a test: those of every test, those of its markers, and those of ``[tool.ironclock]``."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import pytest

from .. import laws
from ..errors import IronClockError, SelectionError
from ..laws.law import Law, World, broken_by, must_be_law, name_of_law, told
from ..scenario.law_tables import law_of, laws_of_tables

DEFAULT: tuple[Law, ...] = (laws.nothing_lost(), laws.no_deadlock())
"""The laws of every test, beside `no_key_twice` for each effect whose keys say what was done."""


@dataclass(frozen=True)
class TestLaws:
    """The laws that are asked of one test."""

    __test__ = False

    marked: tuple[Law, ...] = ()
    """Those of its markers. They must hold without a fault as well."""
    of_project: tuple[Law, ...] = ()
    """Those of ``[tool.ironclock]``. One that is about a job or an effect that the test does not have is left out."""
    with_default: bool = True
    asserts: bool = False
    """True if the test's own assertions are a law under faults as well."""
    ends_alike: bool = False
    """True if a run with a fault must end as the run without it does."""

    @property
    def all_given(self) -> tuple[Law, ...]:
        """Those that somebody has given."""
        return (*self.marked, *self.of_project)

    def of(self, keyed_effects: Iterable[str]) -> Iterator[Law]:
        """Yield every law for a test that does these effects, whose keys say what was done."""
        yield from self.marked
        for law in self.of_project:
            yield _IfItApplies(law)
        if self.with_default:
            yield from DEFAULT
            for name in keyed_effects:
                law = laws.no_key_twice(name)
                law.law_name = repr(law)  # type: ignore[attr-defined]
                yield law

    @property
    def none(self) -> bool:
        """True if no law is asked of the test."""
        return not (self.marked or self.of_project or self.asserts or self.compares_ends)

    @property
    def compares_ends(self) -> bool:
        """True if the ends of runs are compared."""
        return self.with_default or self.ends_alike

    def check_marked(self, worlds: Sequence[World]) -> None:
        """Raise `BrokenLaw` if a law of the markers does not hold."""
        for world in worlds:
            breaches = broken_by(self.marked, world)
            if breaches:
                shown = "\n".join(told(breach, world.history) for breach in breaches)
                raise laws.BrokenLaw(f"a law of the marker is broken:\n{shown}", breaches)


class _IfItApplies:
    """A law of the project, which holds where it is about nothing."""

    def __init__(self, law: Law) -> None:
        self._law = law
        self.law_name = name_of_law(law)
        self.excuses: frozenset[str] = getattr(law, "excuses", frozenset())
        self.limit_ns = getattr(law, "limit_ns", None)

    def __call__(self, world: World, /) -> Any:
        try:
            return list(self._law(world))
        except SelectionError:
            return ()

    def __repr__(self) -> str:
        return repr(self._law)


def laws_of(item: pytest.Item, of_project: Sequence[Law] = ()) -> TestLaws:
    """Return the laws of a test. Raises `pytest.UsageError` for a marker that cannot be used."""
    found: list[Law] = []
    switches = {"default": True, "asserts": False, "ends_alike": False}
    for marker in reversed(list(item.iter_markers("laws"))):
        for name, value in marker.kwargs.items():
            if name not in switches or not isinstance(value, bool):
                raise pytest.UsageError(
                    f"the laws marker of {item.nodeid} has {name}={value!r}; give laws, default=False to leave out "
                    "those of every test, asserts=True to judge the test's own assertions as well, and ends_alike=True "
                    "if each run must end as the one without a fault"
                )
            switches[name] = value
        for law in _each(marker.args):
            try:
                if isinstance(law, str):
                    law = law_of(law, ())
                must_be_law(law)
            except IronClockError as error:
                raise pytest.UsageError(f"the laws marker of {item.nodeid}: {error}") from None
            found.append(law)
    return TestLaws(tuple(found), tuple(of_project), switches["default"], switches["asserts"], switches["ends_alike"])


def _each(given: Iterable[Any]) -> Iterator[Any]:
    """Yield laws that are given one by one or in lists. (pytest takes a function that is given alone for the test.)"""
    for one in given:
        if isinstance(one, (list, tuple)):
            yield from _each(one)
        else:
            yield one


def laws_of_project(tables: object, where: str) -> tuple[Law, ...]:
    """Return the laws of ``[[tool.ironclock.laws]]``, as `laws_of_tables` reads them. Raises `InputError`."""
    return () if tables == [] else tuple(laws_of_tables(tables, where, "[[tool.ironclock.laws]]"))
