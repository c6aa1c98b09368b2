"""Who wants to hear of every rig that is made: the pytest plugin, for its reports."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

observers: list[Callable[[Any], None]] = []
