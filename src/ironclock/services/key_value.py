"""A key-value store with expiry."""

from __future__ import annotations

import copy
from typing import Any

from ..errors import InputError
from ..foundation.durations import Duration, to_ns
from .service import Service


class KeyValue(Service):
    """A simulated key-value store whose entries expire by the rig's clock. It keeps copies of values.

    Parameters: `name` is its name. Default ``"store"``.

    Example::

        store = rig.service(ic.services.KeyValue())
        if store.add("lock:TL-204", 1, expires="30s"):
            ...
    """

    operations = ("get", "set", "add", "delete", "increment")
    keys_are_addresses = True

    def __init__(self, name: str = "store") -> None:
        super().__init__(name)
        self._entries: dict[str, tuple[Any, int | None]] = {}

    def get(self, key: str, default: object = None) -> Any:
        """Return the value of `key`, or `default` if there is none. At the instant of its expiry a value is gone.

        Example::

            store = rig.service(ic.services.KeyValue())
            store.set("seat:12A", "ada")
            assert store.get("seat:12A") == "ada"
        """
        return self._do("get", key, {"default": default})

    def set(self, key: str, value: object, *, expires: Duration | None = None) -> None:
        """Keep `value` under `key`, which is text. `expires` is for how long; default None: for ever.

        Example::

            store = rig.service(ic.services.KeyValue())
            store.set("hold:12A", "ada", expires="20m")
            rig.advance("20m")
            assert store.get("hold:12A") is None
        """
        self._do("set", key, {"value": value, "expires": _ns(expires)})

    def add(self, key: str, value: object, *, expires: Duration | None = None) -> bool:
        """Keep `value` if `key` has none; return True if it was kept. Locks are made of this. `expires` as in `set`.

        Example::

            store = rig.service(ic.services.KeyValue())
            assert store.add("lock:12A", 1, expires="30s")
            assert not store.add("lock:12A", 1)
        """
        return bool(self._do("add", key, {"value": value, "expires": _ns(expires)}))

    def delete(self, key: str) -> bool:
        """Delete the value of `key`; return True if there was one.

        Example::

            store = rig.service(ic.services.KeyValue())
            store.set("seat:12A", "ada")
            store.delete("seat:12A")
        """
        return bool(self._do("delete", key, {}))

    def increment(self, key: str, by: int = 1) -> int:
        """Add `by` to the whole number of `key` (0 if there is none) in one step; return it. Its expiry stays.

        Example::

            store = rig.service(ic.services.KeyValue())
            assert store.increment("sold") == 1
        """
        return int(self._do("increment", key, {"by": by}))

    def expires_in(self, key: str) -> float | None:
        """Return for how many seconds the value of `key` stays. None if there is none, or if it stays for ever."""
        now = self.in_rig("get").loop.now
        until = self._entries.get(key, (None, None))[1]
        return None if until is None or until <= now else (until - now) / 1e9

    def _do(self, operation: str, key: str, data: dict[str, Any]) -> Any:
        if not isinstance(key, str):
            raise InputError(f"the key is {key!r}; {self.name} takes text")
        self.in_rig(operation)
        return self._operate(operation, lambda: getattr(self, f"_{operation}")(key, **data), key, data)

    def redo(self, operation: str, key: object, data: dict[str, Any]) -> object:
        """Do an operation for a forked child. Parameters: `operation` is the name of the operation; `key` is what it is
        about; `data` are its arguments."""
        return self._do(operation, str(key), data)

    def _live(self, key: str) -> tuple[Any, int | None] | None:
        found = self._entries.get(key)
        if found is not None and found[1] is not None and found[1] <= self.in_rig("get").loop.now:
            del self._entries[key]
            return None
        return found

    def _get(self, key: str, default: Any) -> Any:
        found = self._live(key)
        return default if found is None else copy.deepcopy(found[0])

    def _set(self, key: str, value: Any, expires: int | None) -> None:
        until = None if expires is None else self.in_rig("set").loop.now + expires
        self._entries[key] = copy.deepcopy(value), until

    def _add(self, key: str, value: Any, expires: int | None) -> bool:
        if self._live(key) is not None:
            return False
        self._set(key, value, expires)
        return True

    def _delete(self, key: str) -> bool:
        there = self._live(key) is not None
        self._entries.pop(key, None)
        return there

    def _increment(self, key: str, by: int) -> int:
        value, until = self._live(key) or (0, None)
        if not isinstance(value, int):
            raise InputError(f"{self.name} holds {value!r} at {key!r}; only a whole number can be incremented")
        self._entries[key] = value + by, until
        return value + by


def _ns(expires: Duration | None) -> int | None:
    if expires is None:
        return None
    ns = to_ns(expires, what="expires")
    if ns == 0:
        raise InputError("expires is 0; give how long the value stays, or None")
    return ns
