"""Approved histories: a test holds its rig against a file that somebody looked at and found right."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ..core.errors import IronClockError
from ..core.history import History
from .compare import compare


class NotApproved(IronClockError, AssertionError):
    """A history that differs from the approved one; the message says in what."""


@dataclass(frozen=True)
class Approval:
    """Where approved histories are kept, and whether a new one is to be taken for approved."""

    folder: Path = Path()
    approve: bool = False


def must_match(history: History, path: str, approval: Approval) -> None:
    """Raise `NotApproved` where a history differs from the approved one; write that where it is to be approved."""
    place = approval.folder / path
    if approval.approve:
        place.parent.mkdir(parents=True, exist_ok=True)
        history.save(place)
        return
    if not place.exists():
        raise NotApproved(
            f"there is no approved history {place}. Look at what the rig did (rig.history.story()); where it is right, "
            "run pytest with --ironclock-approve"
        )
    approved = History.load(place)
    found = compare(approved, history)
    if not found.same:
        raise NotApproved(
            f"the history differs from {place}: {found.words()}\nWhere this is right, run pytest with "
            "--ironclock-approve"
        )
    if approved.digest() != history.digest():
        for number, (old, new) in enumerate(zip(approved.lines(), history.lines(), strict=False), 1):
            if old != new:
                raise NotApproved(
                    f"the history differs from {place} at its entry {number}:\n  before {old.decode().strip()}\n"
                    f"  now    {new.decode().strip()}\nWhere this is right, run pytest with --ironclock-approve"
                )
        raise NotApproved(f"the history has {len(history)} entries, {place} has {len(approved)}")
