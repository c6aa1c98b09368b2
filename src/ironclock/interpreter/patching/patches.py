"""Patches: what is replaced while a rig is entered, each in the way that suits what it is.

Patches of modules that a rig does not import itself are put in place as soon as somebody imports them.
"""

from __future__ import annotations

import importlib.util
import sys
from collections.abc import Callable, Sequence
from typing import Any, Protocol, TypeAlias

from .builtin_patching import BoundReferences, Builtin, PythonFunction, dict_of, modified, presented_as

Make: TypeAlias = Callable[[Any], Any]
"""Makes the replacement of a function or method from the real one."""


class Patch(Protocol):
    """Something replaced in a module."""

    def put(self) -> None:
        """Put the replacement in place."""

    def restore(self) -> None:
        """Put the original back."""


class LatePatches:
    """Patches by module. Each is made when its module is there, and is in place while `put` says so.

    Parameters: `makers` maps the name of a module to a function that returns its patches.
    """

    def __init__(self, makers: dict[str, Callable[[], list[Patch]]]) -> None:
        self._makers = makers
        self._made: dict[str, Sequence[Patch]] = {}
        self._finding: set[str] = set()
        self._in_place = False

    def put(self) -> None:
        """Put the patches of every module in place that is imported; the others follow when they are."""
        self._in_place = True
        for name in self._makers:
            if name in sys.modules:
                self._put(name)
        sys.meta_path.insert(0, self)

    def restore(self) -> None:
        """Put all originals back."""
        if self._in_place:
            self._in_place = False
            sys.meta_path.remove(self)
            for patches in self._made.values():
                for patch in patches:
                    patch.restore()

    def _put(self, name: str) -> None:
        patches = self._made.get(name)
        if patches is None:
            patches = self._made[name] = self._makers[name]()
        for patch in patches:
            patch.put()

    def find_spec(self, name: str, path: Any = None, target: Any = None) -> Any:
        """Return None, or for a module with patches its real spec, whose loader puts them in place."""
        if name not in self._makers or name in self._finding:
            return None
        self._finding.add(name)
        try:
            spec = importlib.util.find_spec(name)
        finally:
            self._finding.discard(name)
        if spec is None or spec.loader is None:
            return None
        loader: Any = spec.loader
        execute = loader.exec_module

        def exec_module(module: Any) -> None:
            execute(module)
            del loader.exec_module
            if self._in_place:
                self._put(name)

        loader.exec_module = exec_module
        return spec


class Builtins:
    """A patch: built-in functions of a module, each with a function that makes the replacement from the real one.

    Names that this Python does not have are left out. Two names can mean one function: then the first counts.
    """

    def __init__(self, module: Any, makers: dict[str, Make]) -> None:
        functions = {name: getattr(module, name) for name in makers if hasattr(module, name)}
        first = {id(function): name for name, function in reversed(functions.items())}
        builtins = [(Builtin(functions[name]), makers[name]) for name in reversed(first.values())]
        made = [(builtin, make(builtin.real)) for builtin, make in builtins]
        self._made = [(builtin, replacement, builtin.packed(replacement)) for builtin, replacement in made]
        # Most of them need no more than two words written. A call for each would take longer than that.
        self._words = [(one.words, packed, one.saved) for one, _, packed in self._made if not one.is_fast]
        self._made = [one for one in self._made if one[0].is_fast]
        self._kept = made  # the words do not count as references

    def put(self) -> None:
        for words, packed, _ in self._words:
            words.raw = packed
        for builtin, replacement, packed in self._made:
            builtin.point(replacement, packed)

    def restore(self) -> None:
        for words, _, saved in self._words:
            words.raw = saved
        for builtin, _, _ in self._made:
            builtin.restore()


class Methods:
    """A patch: methods of a built-in type, each with a function that makes the replacement from the real one.

    Names that this Python does not have are left out.
    """

    def __init__(self, owner: type, makers: dict[str, Make]) -> None:
        self._owner = owner
        self._dict = dict_of(owner)
        self._saved = {name: self._dict[name] for name in makers if name in self._dict}
        self._replacements = {name: presented_as(makers[name](real), real) for name, real in self._saved.items()}

    def put(self) -> None:
        self._dict.update(self._replacements)
        modified(self._owner)

    def restore(self) -> None:
        self._dict.update(self._saved)
        modified(self._owner)


class Function:
    """A patch: a Python function, with a function that makes the replacement from the real one."""

    def __init__(self, function: Any, make: Make) -> None:
        self._place = PythonFunction(function)
        self._replacement = make(self._place.real)

    def put(self) -> None:
        self._place.point(self._replacement)

    def restore(self) -> None:
        self._place.restore()


class Attribute:
    """A patch: an attribute of a module or a class."""

    def __init__(self, owner: Any, name: str, make: Make) -> None:
        self._owner, self._name = owner, name
        self.real = getattr(owner, name)
        self._replacement = presented_as(make(self.real), self.real)

    def put(self) -> None:
        setattr(self._owner, self._name, self._replacement)

    def restore(self) -> None:
        setattr(self._owner, self._name, self.real)


class References:
    """A patch: the references to a class method of a built-in type that were taken before it was replaced."""

    def __init__(self, owner: type, name: str, replacement: Callable[..., Any]) -> None:
        self._references = BoundReferences(owner, name, replacement)

    def put(self) -> None:
        self._references.point()

    def restore(self) -> None:
        self._references.restore()
