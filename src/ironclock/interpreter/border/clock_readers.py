"""Clock readers of the standard library that ask the system past Python's clock functions."""

from __future__ import annotations

from typing import Any

from ..patching.builtin_patching import Here
from ..patching.patches import Patch


def uuid_patches(_: Here) -> list[Patch]:
    """Return the patch of `uuid`."""
    return [UuidTimes()]


class UuidTimes:
    """A patch of `uuid.uuid1`: without the system's generator it reads Python's clock."""

    def __init__(self) -> None:
        import uuid

        self._variables: dict[str, Any] = vars(uuid)
        self._outside = self._variables["_generate_time_safe"]

    def put(self) -> None:
        self._variables.update(_generate_time_safe=None, _last_timestamp=None)  # a later rig may begin earlier

    def restore(self) -> None:
        self._variables.update(_generate_time_safe=self._outside, _last_timestamp=None)
