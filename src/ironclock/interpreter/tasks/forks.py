"""Forks: a forked child leaves the rig, unless the rig itself has forked it to let an attempt really die."""

from __future__ import annotations

import os

_own: list[int] = []  # not empty while the rig itself forks


def fork_within_rig() -> int:
    """Fork as `os.fork` does. The child stays in the rig."""
    _own.append(1)
    try:
        return os.fork()
    finally:
        _own.pop()


def stays_in_rig() -> bool:
    """Return True in a child that the rig itself has forked, while it begins."""
    return bool(_own)
