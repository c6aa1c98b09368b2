"""Laws that a rig checks: ``rig.check(ic.laws.covers("poll_rows"))``."""

from .core.laws import BrokenLaw, Law, covers, once_per_key

__all__ = ["BrokenLaw", "Law", "covers", "once_per_key"]
