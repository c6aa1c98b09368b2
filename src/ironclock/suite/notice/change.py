"""A change that a suite should notice: what it is in words, what it does, and how a test could reach it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias

from ...simulation.world_change import WorldChange
from .code_changes import CodeChange

Kind: TypeAlias = Literal["job", "schedule", "effect", "code"]
KINDS: tuple[Kind, ...] = ("job", "schedule", "effect", "code")
"""What a change can be about, in the order of the report."""


@dataclass(frozen=True)
class Change:
    """One change.

    Parameters:

    - `kind`, `name`: what it is about, such as ``"job"`` and ``"charge_fare"``.
    - `words`: what is another, as the rest of a sentence: ``"1 attempt instead of 5"``.
    - `before`, `after`: the policy, the schedule or the lines of code without and with it.
    - `weight`: how much it would do in production. Those of a greater weight are tried first.
    - `world`: what is another in the world. None: the code is.
    - `code`: what is another in the code. None: the world is.
    - `reach`: lines of a test that bring a test to the place, such as a fault. Empty: nobody knows one.
    - `imports`: the statement that imports what `reach` needs. Empty: nothing.
    - `applied`: has an entry for each time that the change was made in a run. None: nobody counts.
    - `missing`: why a test does not notice it if it does not get to the place, as the rest of a sentence.
    """

    kind: Kind
    name: str
    words: str
    before: str
    after: str
    weight: int
    world: WorldChange | None = None
    code: CodeChange | None = None
    reach: tuple[str, ...] = ()
    imports: str = ""
    applied: list[str] | None = None
    missing: str = ""

    @property
    def text(self) -> str:
        """How it is called in the report and in the settings: ``charge_fare: 1 attempt instead of 5``."""
        return f"{self.name}: {self.words}"
