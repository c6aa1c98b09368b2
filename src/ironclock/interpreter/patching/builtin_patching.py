"""Replacing a function in place, so that every reference to it follows.

A Python function gets other code. A built-in such as `time.sleep` is one object that everybody shares, wherever and
whenever it was imported. It gets a method entry of its own, which is the C API's call helper for its calling
convention, and its self slot is pointed at the replacement. A call then runs the replacement; exceptions propagate, and
a greenlet can be switched inside it. Nothing here knows about time.
"""

from __future__ import annotations

import copyreg
import ctypes
import gc
import inspect
import struct
from collections.abc import Callable
from functools import cache
from types import BuiltinFunctionType, CodeType, FunctionType, MethodType
from typing import TYPE_CHECKING, Any, TypeAlias

from ...errors import RigStateError
from . import interpreter_layout

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig

Here: TypeAlias = "Callable[[], EnteredRig | None]"
"""Returns the rig that the calling real thread has entered, or None."""

_VARARGS, _KEYWORDS, _NOARGS, _O, _FASTCALL = 0x01, 0x02, 0x04, 0x08, 0x80
_CONVENTION = _VARARGS | _KEYWORDS | _NOARGS | _O | _FASTCALL
_HELPERS = {
    _NOARGS: "PyObject_CallNoArgs",
    _O: "PyObject_CallOneArg",
    _VARARGS: "PyObject_CallObject",
    _VARARGS | _KEYWORDS: "PyObject_Call",
}


class _MethodDef(ctypes.Structure):
    _fields_ = [
        ("name", ctypes.c_char_p), ("meth", ctypes.c_void_p), ("flags", ctypes.c_int), ("doc", ctypes.c_char_p),
    ]  # fmt: skip


class _BuiltinObject(ctypes.Structure):
    _fields_ = [
        ("refcnt", ctypes.c_ssize_t), ("type", ctypes.c_void_p),
        ("ml", ctypes.c_void_p), ("self", ctypes.c_void_p), ("module", ctypes.c_void_p),
        ("weakrefs", ctypes.c_void_p), ("vectorcall", ctypes.c_void_p),
    ]  # fmt: skip


class _DescriptorObject(ctypes.Structure):
    _fields_ = [
        ("refcnt", ctypes.c_ssize_t), ("type", ctypes.c_void_p), ("owner", ctypes.c_void_p),
        ("name", ctypes.c_void_p), ("qualname", ctypes.c_void_p), ("ml", ctypes.POINTER(_MethodDef)),
    ]  # fmt: skip


def _entry(name: str) -> int:
    address = ctypes.cast(getattr(ctypes.pythonapi, name), ctypes.c_void_p).value
    assert address is not None
    return address


def _copied(definition: _MethodDef) -> _MethodDef:
    return _MethodDef(definition.name, definition.meth, definition.flags, definition.doc)


_new_builtin = ctypes.pythonapi.PyCFunction_NewEx
_new_builtin.argtypes = [ctypes.POINTER(_MethodDef), ctypes.py_object, ctypes.py_object]
_new_builtin.restype = ctypes.py_object
_modified = ctypes.pythonapi.PyType_Modified
_modified.argtypes = [ctypes.py_object]
_modified.restype = None


_TWO_WORDS = struct.Struct("@PP")


class Builtin:
    """One built-in function of a module. `real` always calls the original."""

    def __init__(self, function: Any) -> None:
        interpreter_layout.check()
        if type(function) is not type(len):
            raise RigStateError(
                f"{function!r} is not a built-in function; another package has replaced it, import Iron Clock before "
                "that"
            )
        self._function: Any = function  # keeps the object below alive
        self._object = _BuiltinObject.from_address(id(function))
        module: Any = function.__self__  # type: ignore[attr-defined]
        definition = _MethodDef.from_address(self._object.ml)
        convention = definition.flags & _CONVENTION
        self._vectorcall = self._object.vectorcall
        # A function that takes its arguments as an array is called with a tuple and a dict while it is replaced. The
        # interpreter reads that from the flags if there is no vectorcall entry.
        self.is_fast = convention not in _HELPERS and bool(convention & _FASTCALL)
        if self.is_fast:
            convention = _VARARGS | _KEYWORDS
        if convention not in _HELPERS:
            raise RigStateError(
                f"this Python build is not supported: the calling convention of {function!r} is unknown; use CPython "
                "3.11, 3.12 or 3.13"
            )
        # The entry and what it is bound to stand side by side, and are written at once.
        self.words: Any = (ctypes.c_char * _TWO_WORDS.size).from_address(id(function) + _BuiltinObject.ml.offset)
        self.saved: bytes = self.words.raw
        # The method entry belongs to all interpreters of the process, and to a module that is loaded once more. So the
        # function gets an entry of its own while it is replaced.
        own = _MethodDef(definition.name, _entry(_HELPERS[convention]), definition.flags, definition.doc)
        if self.is_fast:
            own.flags = _VARARGS | _KEYWORDS
        self._own = ctypes.addressof(own)
        self._copy = _copied(definition)
        _kept.extend((own, self._copy))
        self._replacement: Any = None
        self.real: Callable[..., Any] = _new_builtin(
            ctypes.byref(self._copy), module, getattr(function, "__module__", None)
        )

    def packed(self, replacement: Callable[..., Any]) -> bytes:
        """Return what `point` writes for a replacement, as long as that lives."""
        return _TWO_WORDS.pack(self._own, id(replacement))

    def point(self, replacement: Callable[..., Any], packed: bytes | None = None) -> None:
        """Let every call of the function run `replacement`."""
        if self.is_fast:
            self._object.vectorcall = None
        self.words.raw = packed or self.packed(replacement)
        self._replacement = replacement  # the slot does not count as a reference

    def restore(self) -> None:
        """Put the original back."""
        self.words.raw = self.saved
        if self.is_fast:
            self._object.vectorcall = self._vectorcall
        self._replacement = None


class PythonFunction:
    """One Python function that gets other code. `real` always calls the original."""

    def __init__(self, function: FunctionType) -> None:
        self.function = function
        self._saved = function.__code__
        self._wrapped = function.__dict__.get("__wrapped__")
        original = FunctionType(
            self._saved, function.__globals__, function.__name__, function.__defaults__, function.__closure__
        )
        original.__kwdefaults__ = function.__kwdefaults__
        original.__qualname__, original.__module__ = function.__qualname__, function.__module__
        self.real: Callable[..., Any] = original
        self._pointed_at: Callable[..., Any] | None = None
        self._code = self._saved  # that calls what it was pointed at the last time

    def point(self, replacement: Callable[..., Any]) -> None:
        """Let every call of the function run `replacement`, and await it if the function is async."""
        if replacement is self._pointed_at:
            self.function.__code__ = self._code
            self.function.__dict__["__wrapped__"] = self.real
            return
        code = self._saved
        self.function.__dict__["__wrapped__"] = self.real  # for its signature
        template = _template(_kind(code, replacement), len(code.co_freevars))
        constants: tuple[Any, ...] = tuple(replacement if c == "replacement" else c for c in template.co_consts)
        self._pointed_at = replacement
        self.function.__code__ = self._code = template.replace(
            co_consts=constants, co_freevars=code.co_freevars, co_name=code.co_name, co_qualname=code.co_qualname,
            co_filename=code.co_filename, co_firstlineno=code.co_firstlineno,
        )  # fmt: skip

    def restore(self) -> None:
        """Put the original back."""
        self.function.__code__ = self._saved
        if self._wrapped is None:
            self.function.__dict__.pop("__wrapped__", None)
        else:
            self.function.__dict__["__wrapped__"] = self._wrapped


def is_replaced(code: CodeType) -> bool:
    """Return True if a function has the code that calls a replacement: ordinary code has no function as a constant."""
    return any(map(callable, code.co_consts))


def _kind(code: CodeType, replacement: Callable[..., Any]) -> str:
    """Return the kind of the code that is to be replaced: from 3.13 on code of another kind is a warning."""
    if code.co_flags & inspect.CO_COROUTINE:
        return "async"
    inner = getattr(replacement, "in_place_of", replacement)  # what the replacement calls, if it only chooses
    if inspect.isgeneratorfunction(inner) and code.co_flags & inspect.CO_GENERATOR:
        return "generator"
    if inspect.isasyncgenfunction(inner) and code.co_flags & inspect.CO_ASYNC_GENERATOR:
        return "async generator"
    return "plain"


_TEMPLATES = {
    "plain": ("def template(*args, **kwargs):", "return replacement(*args, **kwargs)"),
    "async": ("async def template(*args, **kwargs):", "return await replacement(*args, **kwargs)"),
    "generator": ("def template(*args, **kwargs):", "return (yield from replacement(*args, **kwargs))"),
    "async generator": (
        "async def template(*args, **kwargs):", "async for item in replacement(*args, **kwargs): yield item",
    ),
}  # fmt: skip


@cache
def _template(kind: str, free: int) -> CodeType:
    """Return code that calls a replacement, for a function with so many free variables.

    It must have as many itself: Python fills them when such code begins. If it did not, a look at the variables of a
    frame would end the process.
    """
    head, body = _TEMPLATES[kind]
    names = ", ".join(f"free_{number}" for number in range(free))
    lines = [f"def around({names}):", f"  {head}", *([f"    nonlocal {names}"] if free else [])]
    lines += ['    replacement = "replacement"', f"    {body}", "  return template"]
    made: dict[str, Any] = {}
    exec(compile("\n".join(lines), __file__, "exec"), made)
    code: CodeType = made["around"](*range(free)).__code__
    return code


def dict_of(owner: type) -> dict[str, Any]:
    """Return the dict of a built-in type itself. Call `modified` after a change."""
    found: dict[str, Any] = gc.get_referents(owner.__dict__)[0]
    return found


def presented_as(replacement: Any, original: Any) -> Any:
    """Return a copy of a replacement that has the name, the words and the signature of the original."""
    if isinstance(replacement, classmethod):
        return classmethod(presented_as(replacement.__func__, original))
    if not isinstance(replacement, FunctionType) or not hasattr(original, "__qualname__"):
        return replacement
    shown = FunctionType(
        replacement.__code__, replacement.__globals__, original.__name__, replacement.__defaults__,
        replacement.__closure__,
    )  # fmt: skip
    shown.__kwdefaults__ = replacement.__kwdefaults__
    shown.__qualname__, shown.__doc__ = original.__qualname__, original.__doc__
    shown.__module__ = getattr(original, "__module__", None)  # type: ignore[assignment]  # a method in C has none
    shown.__dict__.update(__wrapped__=original, __text_signature__=getattr(original, "__text_signature__", None))
    return shown


def _by_name(function: Any) -> Any:
    """Return how a built-in function is pickled and copied: by its name, also while it is replaced."""
    bound_to, name = function.__self__, function.__name__
    is_replaced = isinstance(bound_to, (FunctionType, MethodType)) and not hasattr(bound_to, name)
    return name if is_replaced else function.__reduce__()


class PickledByName:
    """A patch of `copyreg`: built-in functions that are replaced are pickled by name, as they are outside.

    Without it `pickle` would write down the replacement, with the whole rig that it closes over.
    """

    def put(self) -> None:
        copyreg.dispatch_table[BuiltinFunctionType] = _by_name

    def restore(self) -> None:
        copyreg.dispatch_table.pop(BuiltinFunctionType, None)


def modified(owner: type) -> None:
    """Tell the interpreter that a type's dict has changed."""
    _modified(owner)


class BoundReferences:
    """The references to a class method of a built-in type that were taken earlier (``now = datetime.now``).

    They do not look into the dict of the type, but they share the C entry of the method. That is pointed at a callback
    of `ctypes`. It is slower than the way through the dict, and only such references take it.
    """

    def __init__(self, owner: type, name: str, replacement: Callable[..., Any]) -> None:
        saved = owner.__dict__[name]
        self._keep = saved
        self._definition = _DescriptorObject.from_address(id(saved)).ml.contents
        self._original = self._definition.meth
        as_object, pointer, size = ctypes.py_object, ctypes.c_void_p, ctypes.c_ssize_t
        convention = self._definition.flags & _CONVENTION
        if convention == _NOARGS:
            prototype = ctypes.PYFUNCTYPE(as_object, as_object, pointer)

            def bare(cls: Any, _: int | None) -> Any:
                return replacement(cls)

            self._callback = prototype(bare)

        elif convention == _FASTCALL | _KEYWORDS:
            prototype = ctypes.PYFUNCTYPE(as_object, as_object, pointer, size, pointer)

            def fast(cls: Any, args: int | None, count: int, names: int | None) -> Any:
                keywords = ctypes.cast(names, as_object).value if names else ()
                given = ctypes.cast(args or 0, ctypes.POINTER(as_object))
                values = [given[i] for i in range(count + len(keywords))]
                return replacement(cls, *values[:count], **dict(zip(keywords, values[count:], strict=True)))

            self._callback = prototype(fast)

        else:
            raise RigStateError(
                f"this Python build is not supported: the calling convention of {owner.__name__}.{name} is unknown; "
                "use CPython 3.11, 3.12 or 3.13"
            )

        self._address = ctypes.cast(self._callback, ctypes.c_void_p).value

    def point(self) -> None:
        """Let earlier references call the replacement."""
        self._definition.meth = self._address

    def restore(self) -> None:
        """Let earlier references call the original again."""
        self._definition.meth = self._original


def private_descriptor(owner: type, name: str) -> Any:
    """Return a class-method descriptor that always calls the original."""
    saved = owner.__dict__[name]
    copy = _copied(_DescriptorObject.from_address(id(saved)).ml.contents)
    make = ctypes.pythonapi.PyDescr_NewClassMethod
    make.argtypes = [ctypes.py_object, ctypes.POINTER(_MethodDef)]
    make.restype = ctypes.py_object
    descriptor = make(owner, ctypes.byref(copy))
    _kept.append(copy)
    return descriptor


_kept: list[_MethodDef] = []  # method definitions that live descriptors point into
