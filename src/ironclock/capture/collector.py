"""Collectors: functions that a request adds, to run in order after its response is sent."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.errors import RigStateError, TapError
from ..core.requests import Requests
from .targets import InPlace


class Collector(InPlace):
    """A tapped callable that takes a function and its arguments. Made by `Rig.collector`."""

    def __init__(self, target: Any, requests: Requests, on_error: str) -> None:
        super().__init__(target)
        self._requests = requests
        self._on_error = on_error

    def stand_in(self) -> Callable[..., Any]:
        return self._add

    def _add(self, *args: Any, **kwargs: Any) -> None:
        # A method that was given by its class gets the application's own collector first.
        place = next((n for n, value in enumerate(args[:2]) if callable(value)), None)
        if place is None:
            raise TapError(f"{self.target.label} was called with {args!r}; a collector takes a function first")
        request = self._requests.current()
        if request is None:
            raise RigStateError(
                f"{self.target.label} collects {args[place]!r} outside a request; put it into `with rig.request(...)`"
            )
        request.collected.append((args[place], args[place + 1 :], kwargs))
        request.on_error = self._on_error if request.on_error == "stop" else request.on_error

    def __repr__(self) -> str:
        return f"<collector at {self.target.label}>"
