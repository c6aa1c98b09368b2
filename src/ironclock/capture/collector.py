"""Collectors: functions that a request adds, to run in order after its response."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..errors import RigStateError, TapError
from ..simulation.requests import Requests
from .targets import Replacement, TargetLike


class Collector(Replacement):
    """A tapped callable that takes a function and its arguments. `Rig.collector` gives it."""

    def __init__(self, target: TargetLike, requests: Requests, on_error: str) -> None:
        super().__init__(target)
        self._requests = requests
        self._on_error = on_error

    def replacement(self) -> Callable[..., Any]:
        return self._add

    def _add(self, *args: Any, **kwargs: Any) -> None:
        # A method that is given as a function of its class gets the application's object first.
        # That object can be callable as well.
        is_object = bool(args) and hasattr(type(args[0]), getattr(self.target.real, "__name__", ""))
        place = next((n for n, value in enumerate(args[:2]) if callable(value) and not (n == 0 and is_object)), None)
        if place is None:
            raise TapError(
                f"{self.target.label} was called with {args!r}; a collector needs a function as its first argument"
            )
        request = self._requests.current()
        if request is None:
            raise RigStateError(
                f"{self.target.label} collects {args[place]!r} outside a request; call it inside `with "
                "rig.request(...)`"
            )
        request.collected.append((args[place], args[place + 1 :], kwargs))
        request.on_error = self._on_error if request.on_error == "stop" else request.on_error

    def __repr__(self) -> str:
        return f"<collector at {self.target.label}>"
