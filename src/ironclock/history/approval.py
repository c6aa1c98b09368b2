"""Approval: a test compares its history with a file that somebody has looked at and approved."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ..errors import NotApproved
from .comparison import compare
from .history import History


@dataclass(frozen=True)
class Approval:
    """Where approved histories are kept. `approve`: True writes them instead of comparing."""

    folder: Path = Path()
    approve: bool = False


def must_match(history: History, path: str, approval: Approval) -> None:
    """Raise `NotApproved` if a history differs from the approved one, or write the approved one."""
    place = approval.folder / path
    if approval.approve:
        place.parent.mkdir(parents=True, exist_ok=True)
        history.save(place)
        return
    if not place.exists():
        raise NotApproved(
            f"there is no approved history {place}; look at what happened (rig.history.story()), and if it is right, "
            "run pytest with --ironclock-approve"
        )
    approved = History.load(place)
    found = compare(approved, history)
    if not found.same:
        raise NotApproved(
            f"the history differs from {place}: {found.words()}\nIf this is right, run pytest with --ironclock-approve"
        )
    if approved.digest() != history.digest():
        for number, (old, new) in enumerate(zip(approved.lines(), history.lines(), strict=False), 1):
            if old != new:
                raise NotApproved(
                    f"the history differs from {place} at its entry {number}:\n  before {old.decode().strip()}\n"
                    f"  now    {new.decode().strip()}\nIf this is right, run pytest with --ironclock-approve"
                )
        raise NotApproved(
            f"the history has {len(history)} entries, {place} has {len(approved)}; if this is right, run pytest with "
            "--ironclock-approve"
        )
