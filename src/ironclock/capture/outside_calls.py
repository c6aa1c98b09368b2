"""Outside calls: real functions that block in C are called on a helper thread while their task waits."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..errors import TapError
from .targets import Replacement


class OutsideCall(Replacement):
    """A function whose calls are made on a helper thread while the rig is entered."""

    def __init__(self, target: Any, call: Callable[[str, Callable[..., Any], Any, Any], Any]) -> None:
        super().__init__(target)
        if self.target.is_async:
            raise TapError(
                f"{self.target.label!r} is async, so it does not block its thread; name the function in it that does"
            )
        self._call = call

    def replacement(self) -> Callable[..., Any]:
        return self._call_outside

    def _call_outside(self, *args: Any, **kwargs: Any) -> Any:
        return self._call(self.target.label, self.target.real, args, kwargs)

    def __repr__(self) -> str:
        return f"<outside call of {self.target.label}>"
