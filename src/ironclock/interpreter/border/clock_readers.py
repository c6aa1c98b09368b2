"""Clock readers of the standard library that ask the system past Python's clock functions."""

from __future__ import annotations

from typing import Any


class UuidTimes:
    """A patch of `uuid.uuid1`: without the system's generator it reads Python's clock."""

    def __init__(self) -> None:
        import uuid

        self._uuid: Any = uuid
        self._generator = uuid._generate_time_safe  # type: ignore[attr-defined]

    def put(self) -> None:
        self._uuid._generate_time_safe = None
        self._uuid._last_timestamp = None  # a later rig may begin earlier

    def restore(self) -> None:
        self._uuid._generate_time_safe = self._generator
        self._uuid._last_timestamp = None
