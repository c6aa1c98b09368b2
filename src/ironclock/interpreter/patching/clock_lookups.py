"""Clock functions that look up the thread which asks: one that has entered no rig gets the real clock."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from .clock_functions import BUILTINS, REAL, by_thread
from .real_functions import real_get_ident

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig


def lookups(entered: Mapping[int, EnteredRig]) -> dict[str, Callable[..., Any]]:
    """Return by name the functions for threads, of which `entered` says who has entered which rig."""

    def looking_up(name: str) -> Callable[..., Any]:
        real, find, ident = REAL[name], entered.get, real_get_ident

        def call(*args: Any) -> Any:
            rig = find(ident())
            return real(*args) if rig is None else rig.clock.functions[name](*args)

        return call

    # These are called most often: a thread has a stock of values to give out.

    def read_time() -> Any:
        for value in by_thread.time:
            return value
        return entered[real_get_ident()].clock.functions["time"]()

    def read_time_ns() -> Any:
        for value in by_thread.time_ns:
            return value
        return entered[real_get_ident()].clock.functions["time_ns"]()

    def read_monotonic() -> Any:
        for value in by_thread.monotonic:
            return value
        return entered[real_get_ident()].clock.functions["monotonic"]()

    def read_monotonic_ns() -> Any:
        for value in by_thread.monotonic_ns:
            return value
        return entered[real_get_ident()].clock.functions["monotonic_ns"]()

    return {
        **{name: looking_up(name) for name in BUILTINS},
        "time": read_time, "time_ns": read_time_ns, "monotonic": read_monotonic,
        "monotonic_ns": read_monotonic_ns, "perf_counter": read_monotonic, "perf_counter_ns": read_monotonic_ns,
    }  # fmt: skip
