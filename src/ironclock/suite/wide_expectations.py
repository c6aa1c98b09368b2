"""Wide expectations: a test that expects any error takes one of the rig for that of its application."""

from __future__ import annotations

import sys
import unittest
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import pytest

from ..errors import InputError, JobsLeftOpen, RigStateError, StrictError, StuckError, TapError, UnknownJob

if TYPE_CHECKING:
    from ..history.attention import Attention

_OF_RIG = (InputError, JobsLeftOpen, RigStateError, StrictError, StuckError, TapError, UnknownJob)
"""Errors that say that the rig could not do what it was asked for. Others stand for failures of something outside."""
_ANY = {Exception, BaseException}


class WideExpectations:
    """Notes errors of the rig that ``pytest.raises(Exception)`` or ``assertRaises(Exception)`` has taken, until `end`.

    An expectation that also names the message is not wide. Parameters: `attention` is told.
    """

    def __init__(self, attention: Attention) -> None:
        self._attention = attention
        # What the `with` of a test enters; neither has a public place to be told of its end.
        of_pytest = getattr(pytest, "RaisesExc", None) or sys.modules["_pytest.python_api"].RaisesContext
        of_unittest = unittest.case._AssertRaisesContext
        self._undo: list[Callable[[], None]] = []
        self._watch(of_pytest, "pytest.raises(Exception)", ("expected_exceptions", "expected_exception"), "match_expr")
        self._watch(of_unittest, "assertRaises(Exception)", ("expected",), "expected_regex")

    def _watch(self, kind: Any, by: str, expected: tuple[str, ...], message: str) -> None:
        real = kind.__exit__

        def leave(context: Any, error_type: Any, error: Any, trace: Any) -> Any:
            __tracebackhide__ = True
            taken = real(context, error_type, error, trace)
            types = next((getattr(context, name) for name in expected if hasattr(context, name)), ())
            types = types if isinstance(types, tuple) else (types,)
            says_more = any(getattr(context, name, None) is not None for name in (message, "match", "check"))
            if taken and isinstance(error, _OF_RIG) and set(types) & _ANY and not says_more:
                self._attention.expected_too_much(error, by)
            return taken

        kind.__exit__ = leave
        self._undo.append(lambda: setattr(kind, "__exit__", real))

    def end(self) -> None:
        """Take the replacements back."""
        for undo in self._undo:
            undo()
