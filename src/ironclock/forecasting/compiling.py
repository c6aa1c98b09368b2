"""Compiling: the functions that go through a forecast's jobs one by one are compiled when they are first called."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

import numba

F = TypeVar("F", bound=Callable[..., Any])


def compiled(function: F) -> F:
    """Compile a function of numbers and arrays when it is first called. What was compiled is kept for the next process,
    if it can be written somewhere.

    With ``NUMBA_DISABLE_JIT=1`` in the environment it stays as it is, for a debugger. Source: the documentation of
    numba, "Compiling Python code with @jit".
    """
    try:
        return cast("F", numba.njit(cache=True, error_model="numpy")(function))
    except RuntimeError:  # neither beside the file nor in the user's folder
        return cast("F", numba.njit(error_model="numpy")(function))
