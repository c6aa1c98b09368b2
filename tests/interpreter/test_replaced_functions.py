"""Functions that a rig replaces are told, pickled and copied as they are outside."""

from __future__ import annotations

import concurrent.futures as futures
import copy
import functools
import importlib
import inspect
import multiprocessing
import pickle
import pydoc
import time
from collections.abc import Callable, Iterator
from datetime import datetime
from typing import Any

import pytest

import ironclock as ic

MODULES = [
    "time", "_thread", "threading", "select", "selectors", "socket", "_socket", "signal", "_signal", "os", "queue",
    "datetime", "subprocess", "asyncio", "concurrent.futures", "ssl", "_ssl", "sqlite3", "_sqlite3", "io", "builtins",
    "uuid", "http.client", "_multiprocessing", "multiprocessing.synchronize", "bdb",
]  # fmt: skip


def _everything() -> Iterator[tuple[str, Any]]:
    for name in MODULES:
        module = importlib.import_module(name)
        for key, value in sorted(vars(module).items()):
            if callable(value):
                yield f"{name}.{key}", value
            if isinstance(value, type):
                for inner in sorted(vars(value)):
                    method = getattr(value, inner, None)
                    if callable(method):
                        yield f"{name}.{key}.{inner}", method


def _tried(ask: Callable[[], Any]) -> Any:
    try:
        return ask()
    except Exception as error:
        return type(error).__name__


def _looks() -> dict[str, dict[str, Any]]:
    return {name: _look(one) for name, one in _everything()}


def _look(one: Any) -> dict[str, Any]:
    return {
        "__module__": getattr(one, "__module__", None),
        "__name__": getattr(one, "__name__", None),
        "__doc__": one.__doc__,
        "__text_signature__": getattr(one, "__text_signature__", None),
        "signature": _tried(lambda: [(p.name, p.kind) for p in inspect.signature(one).parameters.values()]),
        "pickled": _tried(lambda: pickle.loads(pickle.dumps(one)) == one),
        "copied": _tried(lambda: copy.deepcopy(one) == one and copy.copy(one) == one),
    }


def test_every_function_is_told_and_pickled_as_outside() -> None:
    outside = _looks()
    with ic.Rig():
        inside = _looks()
    # What makes the identifiers of `uuid1` in C is switched off: it would read the real clock.
    assert len(outside) > 2_000
    assert outside.keys() - inside.keys() <= {"uuid._generate_time_safe"}
    different = {name: (look, inside[name]) for name, look in outside.items() if look != inside.get(name, look)}
    assert not different


def test_help_says_what_it_says_outside() -> None:
    for one in (time.sleep, datetime.now, time.monotonic):
        outside = pydoc.render_doc(one, renderer=pydoc.plaintext).splitlines()[2:]
        with ic.Rig():
            inside = pydoc.render_doc(one, renderer=pydoc.plaintext).splitlines()[2:]
        assert [line.split(" method of ")[0] for line in inside] == [line.split(" method of ")[0] for line in outside]


class Cache:
    """A cache that keeps the clock by which its entries expire."""

    def __init__(self) -> None:
        self.clock = time.monotonic
        self.wait = functools.partial(time.sleep, 1)

    def age(self) -> float:
        return self.clock() * 0 + 1


def _age(cache: Cache) -> float:
    return cache.age()


@pytest.mark.parametrize("method", ["fork", "spawn"])
def test_objects_that_keep_a_clock_go_to_other_processes(method: str) -> None:
    context = multiprocessing.get_context(method)
    with ic.Rig():
        back = pickle.loads(pickle.dumps(Cache()))
        assert back.clock is time.monotonic
        assert copy.deepcopy(back).clock is time.monotonic
        before = time.monotonic()
        back.wait()
        assert time.monotonic() - before == 1
        with context.Pool(2) as pool:
            assert pool.map(_age, [Cache()] * 3) == [1] * 3
        with futures.ProcessPoolExecutor(2, mp_context=context) as executor:
            assert list(executor.map(_age, [Cache()] * 3)) == [1] * 3


def test_a_pickle_of_a_method_of_a_function_is_its_own() -> None:
    with ic.Rig():
        bound = _age.__reduce_ex__  # a built-in method whose self is a function
        assert pickle.loads(pickle.dumps(bound)) == bound
        assert pickle.loads(pickle.dumps([].append))(1) is None
