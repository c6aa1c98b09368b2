"""What became of the changes: which tests were asked, who noticed, and what a test would have seen."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, Literal, TypeAlias

from ...errors import InputError, nearest
from .change import KINDS, Kind

State: TypeAlias = Literal["noticed", "unnoticed", "the same", "not tried"]
FORMAT = "ironclock notice"


@dataclass
class Tried:
    """One change, and what became of it."""

    text: str
    """How it is called: ``charge_fare: 1 attempt instead of 5``."""
    kind: Kind
    name: str
    words: str
    before: str
    after: str
    weight: int = 0
    """How much it would do in production."""
    state: State = "not tried"
    tests: list[str] = field(default_factory=list)
    """The tests that touch its place and were asked."""
    noticed_by: str = ""
    """The test that noticed it first."""
    how: str = ""
    """The error with which that test failed."""
    why: str = ""
    """Why no test notices it, as far as it is known."""
    difference: list[str] = field(default_factory=list)
    """Where the history of a test begins to differ: the entry without the change, and with it."""
    test_to_add: str = ""
    """A test that does notice it, as code. Empty if none was found."""
    is_new: bool = False
    """True if the last session did not have it among the unnoticed ones."""
    reason: str = ""
    """Why it is meant that nobody notices it, by ``[tool.ironclock] unnoticed``."""

    @property
    def sentence(self) -> str:
        """What is to be said of one that nobody noticed."""
        count = len(self.tests)
        passes = {1: "the test still passes", 2: "both tests still pass"}.get(count, f"all {count} tests still pass")
        return f"{self.words}: {passes}{f': {self.why}' if self.why else ''}"


@dataclass
class Asked:
    """What became of one test, and of all changes together in one process."""

    changes: list[Tried] = field(default_factory=list)
    left_out: dict[str, str] = field(default_factory=dict)
    """The tests that could not be asked, with the reason."""
    tests: int = 0
    runs: int = 0
    kept: int = 0
    """How many answers are those of an earlier session."""
    seconds: float = 0.0

    def merge(self, other: Asked) -> None:
        """Add what another process has found: a change is noticed if one process has noticed it."""
        known = {(one.text, one.after): one for one in self.changes}
        for one in other.changes:
            mine = known.get((one.text, one.after))
            if mine is None:
                self.changes.append(one)
                continue
            mine.tests += [test for test in one.tests if test not in mine.tests]
            if _RANK[one.state] > _RANK[mine.state]:
                tests = mine.tests
                vars(mine).update(vars(one))
                mine.tests = tests
            mine.test_to_add = mine.test_to_add or one.test_to_add
        self.left_out.update(other.left_out)
        self.tests += other.tests
        self.runs += other.runs
        self.kept += other.kept
        self.seconds = max(self.seconds, other.seconds)

    def ordered(self) -> list[Tried]:
        """Return the changes in the order of the report."""
        return sorted(self.changes, key=lambda one: (KINDS.index(one.kind), one.name, one.text))

    @property
    def noticed(self) -> int:
        """How many changes were noticed."""
        return sum(one.state == "noticed" for one in self.changes)

    @property
    def unnoticed(self) -> list[Tried]:
        """The changes that nobody noticed, but for those that are meant."""
        return [one for one in self.ordered() if one.state == "unnoticed" and not one.reason]

    @property
    def percent(self) -> float:
        """The share of the changes that were noticed, from 0 to 100. 100 if there was none."""
        total = self.noticed + len(self.unnoticed)
        return 100 * self.noticed / total if total else 100.0

    def as_dict(self) -> dict[str, Any]:
        """Return it as JSON can hold it."""
        return {
            "format": FORMAT, "version": 1, "tests": self.tests, "runs": self.runs, "kept": self.kept,
            "seconds": round(self.seconds, 3), "noticed": self.noticed, "unnoticed": len(self.unnoticed),
            "percent": round(self.percent, 1), "left_out": self.left_out,
            "changes": [asdict(one) for one in self.ordered()],
        }  # fmt: skip


_RANK: Mapping[State, int] = {"not tried": 0, "the same": 1, "unnoticed": 2, "noticed": 3}


def asked_from(data: Mapping[str, Any]) -> Asked:
    """Return what `Asked.as_dict` of another process has."""
    return Asked(
        [Tried(**one) for one in data["changes"]], dict(data["left_out"]), data["tests"], data["runs"], data["kept"],
        data["seconds"],
    )  # fmt: skip


def checked_exceptions(given: object, where: str) -> dict[str, str]:
    """Return the changes that nobody has to notice, with the reason. Raises `InputError` for another shape.

    Parameters: `given` is ``unnoticed`` of ``[tool.ironclock]``, a list of tables with ``change`` and ``reason``.
    """
    example = '{ change = "charge_fare: no jitter", reason = "the harbour has one client" }'
    if not isinstance(given, Sequence) or isinstance(given, str):
        raise InputError(f"{where} unnoticed is {given!r}; give a list of tables, such as {example}")
    found = {}
    for one in given:
        if not isinstance(one, Mapping) or not all(isinstance(one.get(key), str) for key in ("change", "reason")):
            raise InputError(f"{where} unnoticed has {one!r}; give change and reason as text, such as {example}")
        for key in one:
            if key not in ("change", "reason"):
                raise InputError(f"{where} unnoticed has the key {key!r}; {nearest(key, ('change', 'reason'))}")
        if not one["reason"].strip():
            raise InputError(f"{where} unnoticed has {one['change']!r} without a reason; say why nobody notices it")
        found[one["change"]] = one["reason"]
    return found


def checked_modules(given: object, where: str) -> tuple[str, ...]:
    """Return the names of the modules whose code is changed. Raises `InputError` unless it is a list of names."""
    good = isinstance(given, Sequence) and not isinstance(given, str)
    if not good or not all(isinstance(one, str) and one for one in given):  # type: ignore[attr-defined]
        raise InputError(f"{where} notice is {given!r}; give a list of names of modules, such as ['app.jobs']")
    return tuple(given)  # type: ignore[arg-type]


def apply_exceptions(asked: Asked, exceptions: Mapping[str, str]) -> Iterable[str]:
    """Mark the changes that are meant; yield a line for each exception that is not needed any more."""
    by_text = {one.text: one for one in asked.changes if one.state == "unnoticed"}
    noticed = {one.text: one for one in asked.changes if one.state == "noticed"}
    for text, reason in exceptions.items():
        if text in by_text:
            for one in asked.changes:
                if one.text == text and one.state == "unnoticed":
                    one.reason = reason
        elif text in noticed:
            yield f"{text}: it is noticed now, by {noticed[text].noticed_by}; take it out of [tool.ironclock] unnoticed"
        else:
            yield f"{text}: no test touches such a change; take it out of [tool.ironclock] unnoticed, or mend its name"
