"""Targets: find a callable by path or object, and replace it so that every reference follows.

A Python function gets other code: everybody who has imported it, under any name, calls the replacement. Anything else
is replaced where its path finds it.
"""

from __future__ import annotations

import importlib
import inspect
import sys
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from types import FunctionType, MethodType, ModuleType
from typing import Any, TypeAlias

from ..errors import TapError, nearest
from ..interpreter.patching.builtin_patching import Builtin, PythonFunction, is_replaced


def find(path: str) -> tuple[Any, str, Any]:
    """Return the owner, the attribute's name and the object behind ``package.module:attribute.attribute``.

    A path without a colon is split after the longest part that can be imported. Raises `TapError`.
    """
    module_name, colon, attributes = path.partition(":")
    if colon:
        try:
            owner: Any = importlib.import_module(module_name)
        except ImportError as error:
            raise TapError(f"{path!r}: cannot import {module_name!r}: {error}") from None
        names = attributes.split(".")
    else:
        parts = path.split(".")
        owner = None
        for count in range(len(parts) - 1, 0, -1):
            module = ".".join(parts[:count])
            try:
                owner = importlib.import_module(module)
            except ModuleNotFoundError as error:
                if error.name is None or not (module + ".").startswith(error.name + "."):
                    raise TapError(f"{path!r}: importing {module!r} failed: {error}") from None
                continue
            names = parts[count:]
            break
        if owner is None:
            raise TapError(f"{path!r}: no module of that name can be imported; give 'package.module:name'")
    for name in names[:-1]:
        owner = _attribute(owner, name, path)
    return owner, names[-1], _attribute(owner, names[-1], path)


def _attribute(owner: Any, name: str, path: str) -> Any:
    try:
        return getattr(owner, name)
    except AttributeError:
        known = [n for n in dir(owner) if not n.startswith("_")]
        what = getattr(owner, "__name__", type(owner).__name__)
        raise TapError(f"{path!r}: {what!r} has no {name!r}; {nearest(name, known)}") from None


_called_on: ContextVar[Any] = ContextVar("_called_on", default=None)
# The class on which a tapped class method is called now.


TargetLike: TypeAlias = "str | Callable[..., object]"
"""A callable that is to be replaced: its import path, or itself."""


class Target:
    """A callable that can be replaced and put back. `real` always calls the original."""

    def __init__(self, target: TargetLike) -> None:
        self._owner: Any = None
        self._name = ""
        self._bound: Any = None
        self._function: FunctionType | None = None
        if inspect.isclass(target):
            target = _looked_up(target) or target  # a class is replaced where its path finds it
        if isinstance(target, str):
            self.label = target
            self._owner, self._name, found = find(target)
        else:
            found = target
            self.label = f"{getattr(target, '__module__', '?')}:{getattr(target, '__qualname__', repr(target))}"
        if not callable(found):
            raise TapError(f"{self.label!r} is {found!r}, which cannot be called; give a function")
        if inspect.isbuiltin(found) and getattr(found, "__module__", None) in _NEEDED:
            raise TapError(
                f"{self.label!r} is a built-in function of Python, and Iron Clock itself calls it; tap a function of "
                "your own that calls it"
            )
        self.real: Callable[..., Any] = found
        self.by_class = isinstance(found, MethodType) and inspect.isclass(found.__self__)
        """True if it is a class method: a call on a subclass is a call of it as well."""
        self._elsewhere: list[tuple[Any, str]] = []
        inner = found
        if isinstance(inner, MethodType):
            self._bound, inner = inner.__self__, inner.__func__
        if isinstance(inner, FunctionType):
            self._function = inner
        elif self._owner is None:
            caller = inspect.getattr_static(type(found), "__call__", None)
            if not isinstance(caller, FunctionType):
                raise TapError(
                    f"{self.label!r} is not a Python function; give its import path, so that it can be replaced there"
                )
            self._function, self._bound = caller, found
        else:
            self._bound = None
        self.is_async = inspect.iscoroutinefunction(found) or (
            self._function is not None and inspect.iscoroutinefunction(self._function)
        )
        self.replaced: tuple[int | str, ...]
        """What is replaced: a function (for one object), or a name in a module or class. Equal if it is the same."""
        if self._function is not None:
            self.replaced = (id(self._function), id(self._bound))
        else:
            self.replaced = (id(self._owner), self._name)
        self._place: PythonFunction | Builtin | None = None
        self._saved: Any = None
        self._had = True

    def replace(self, replacement: Callable[..., Any]) -> None:
        """Let every call run `replacement` with the arguments of the call, without the object of a bound method."""
        function = self._function
        owner = self._bound if self.by_class else self._owner
        if inspect.isclass(owner):
            _must_not_be_overridden(owner, self._name or self.real.__name__)
        if function is None and inspect.isbuiltin(self.real) and inspect.ismodule(getattr(self.real, "__self__", None)):
            builtin = self._place = Builtin(self.real)
            self.real = builtin.real
            builtin.point(replacement)
            return
        if function is None:
            self._had = self._name in getattr(self._owner, "__dict__", {})
            self._saved = self.real
            if inspect.isclass(self._owner):
                self._saved = inspect.getattr_static(self._owner, self._name)
            try:
                setattr(
                    self._owner, self._name, staticmethod(replacement) if inspect.isclass(self._owner) else replacement
                )
            except (AttributeError, TypeError) as error:
                raise TapError(f"{self.label!r} cannot be replaced: {error}") from None
            # Other modules can have imported it by name. A call there must not go past the replacement.
            self._elsewhere = [] if inspect.isclass(self._owner) else _references(self.real, self._owner, self._name)
            for module, name in self._elsewhere:
                setattr(module, name, replacement)
            return
        # Made anew: another tap can have replaced the same function for another object.
        self._place = PythonFunction(function)
        original = self._place.real
        if self._bound is None:
            self.real = original
            self._place.point(replacement)
        elif self.by_class:
            self.real = lambda *args, **kwargs: original(self.called_on, *args, **kwargs)
            self._place.point(self._for_subclasses(original, replacement))
        else:
            self.real = MethodType(original, self._bound)
            self._place.point(_for_one_object(self._bound, original, replacement))

    @property
    def called_on(self) -> Any:
        """The class on which a class method is called now."""
        return _called_on.get() or self._bound

    def _for_subclasses(self, original: Callable[..., Any], replacement: Callable[..., Any]) -> Callable[..., Any]:
        """Return a function that replaces a class method for its class and those below, and for no other."""
        base = self._bound

        def choose(cls: Any, *args: Any, **kwargs: Any) -> Any:
            if not issubclass(cls, base):
                return original(cls, *args, **kwargs)
            token = _called_on.set(cls)
            try:
                return replacement(*args, **kwargs)
            finally:
                _called_on.reset(token)

        async def choose_async(cls: Any, *args: Any, **kwargs: Any) -> Any:
            if not issubclass(cls, base):
                return await original(cls, *args, **kwargs)
            token = _called_on.set(cls)
            try:
                return await replacement(*args, **kwargs)
            finally:
                _called_on.reset(token)

        choose.in_place_of = replacement  # type: ignore[attr-defined]
        return choose_async if self.is_async else choose

    def same(self, other: Target) -> bool:
        """Return True if both would replace the same thing."""
        return self.replaced == other.replaced

    def signature(self) -> inspect.Signature | None:
        """Return the signature that callers see. None if it cannot be read."""
        try:
            return inspect.signature(self.real)
        except (TypeError, ValueError):
            return None

    def restore(self) -> None:
        """Put the original back."""
        if self._place is not None:
            self._place.restore()
        elif self._had:
            setattr(self._owner, self._name, self._saved)
        else:
            delattr(self._owner, self._name)
        for module, name in self._elsewhere:
            setattr(module, name, self._saved)


_NEEDED = ("builtins", "_thread", "time")
"""Modules whose built-in functions stand under everything that Iron Clock does."""


def _looked_up(target: type) -> str | None:
    """Return the import path of a class, if it leads to the class."""
    path = f"{target.__module__}:{target.__qualname__}"
    try:
        return path if find(path)[2] is target else None
    except TapError:
        return None


def _must_not_be_overridden(owner: type, name: str) -> None:
    """Raise `TapError` if a subclass has its own method in place of this one: its calls would bypass the tap."""
    for below in _subclasses(owner):
        own = vars(below).get(name)
        function = getattr(own, "__func__", own)
        code = getattr(function, "__code__", None)
        if code is None or "super" in code.co_names or is_replaced(code):
            continue  # it calls the one above it, or has its own tap
        if owner.__name__ not in code.co_names:
            path = f"{below.__module__}:{below.__qualname__}.{name}"
            raise TapError(
                f"{owner.__qualname__}.{name} is overridden by {path}, whose calls would bypass the tap; tap that "
                "one first"
            )


def _subclasses(owner: type) -> Iterator[type]:
    found: list[type] = type.__subclasses__(owner)
    for below in found:
        yield below
        yield from _subclasses(below)


def _references(thing: Any, owner: Any, own_name: str) -> list[tuple[Any, str]]:
    """Return every other module and name in it under which a thing was imported."""
    return [
        (module, name)
        for module in list(sys.modules.values())
        if isinstance(module, ModuleType)
        for name, value in list(vars(module).items())
        if value is thing and not (module is owner and name == own_name)
    ]


class Replacement:
    """What replaces a real callable while its rig is entered. A subclass says what is called instead."""

    def __init__(self, target: TargetLike) -> None:
        self.target = Target(target)
        self.active = False

    def replacement(self) -> Callable[..., Any]:
        """Return what is called instead of the callable."""
        raise NotImplementedError

    def install(self) -> None:
        """Replace the callable."""
        self.target.replace(self.replacement())
        self.active = True

    def remove(self) -> None:
        """Put the real callable back."""
        self.target.restore()
        self.active = False


def _for_one_object(bound: Any, original: Callable[..., Any], replacement: Callable[..., Any]) -> Callable[..., Any]:
    """Return a function that replaces a method for one object, and calls the original for all others."""

    def choose(*args: Any, **kwargs: Any) -> Any:
        if args and args[0] is bound:
            return replacement(*args[1:], **kwargs)
        return original(*args, **kwargs)

    choose.in_place_of = replacement  # type: ignore[attr-defined]
    return choose
