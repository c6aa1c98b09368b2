"""An object store whose listing is late, as those of large providers are or were."""

from __future__ import annotations

import datetime as dt
import hashlib
from typing import Any, NamedTuple

from ..errors import InputError
from ..foundation.durations import Duration, to_ns
from .service import Service


class StoredObject(NamedTuple):
    """One object, as the store holds it."""

    key: str
    body: bytes
    etag: str
    """The MD5 digest of the body, in hexadecimal."""
    metadata: dict[str, str]
    at: dt.datetime
    """When it was put."""


class ObjectStore(Service):
    """A simulated object store. What was put can be read at once; the listing shows it later.

    Parameters:

    - `name`: its name. Default ``"objects"``.
    - `listed_after`: after how long a listing shows what was put, and shows no more what was deleted. Default 0.

    Example::

        store = rig.service(ic.services.ObjectStore(listed_after="2s"))
        store.put("manifests/TL-204.csv", b"seat,name")
        assert store.list("manifests/") == []
        rig.advance("2s")
        assert store.list("manifests/") == ["manifests/TL-204.csv"]
    """

    operations = ("put", "get", "delete", "list")
    keys_are_addresses = True

    def __init__(self, name: str = "objects", *, listed_after: Duration = 0) -> None:
        super().__init__(name)
        self._listed_after_ns = to_ns(listed_after, what="listed_after")
        self._objects: dict[str, StoredObject] = {}
        self._listing: dict[str, tuple[int, int]] = {}  # by key, from when until when the listing shows it

    def put(
        self, key: str, body: bytes, *, metadata: dict[str, str] | None = None, if_absent: bool = False
    ) -> str:  # fmt: skip
        """Keep an object; return its ETag.

        Parameters: `key` is text, `body` bytes. `metadata` maps text to text; default: nothing. `if_absent`: True
        raises `FileExistsError` if there is an object under the key. Default False.

        Raises `InputError`, `ServiceError`, or the error of a fault.

        Example::

            store = rig.service(ic.services.ObjectStore())
            store.put("manifests/TL-204", b"ada, bo")
        """
        if not isinstance(key, str) or not key:
            raise InputError(f"the key is {key!r}; give text that is not empty")
        if not isinstance(body, (bytes, bytearray)):
            raise InputError(f"the body of {key!r} is {type(body).__name__}; give bytes")
        loop = self.in_rig("put").loop

        def act() -> str:
            if if_absent and key in self._objects:
                raise FileExistsError(f"{self.name} has an object {key!r} already")
            etag = hashlib.md5(body, usedforsecurity=False).hexdigest()
            self._objects[key] = StoredObject(key, bytes(body), etag, dict(metadata or {}), loop.moment)
            since, until = self._listing.get(key, (loop.now + self._listed_after_ns, _FOR_EVER))
            shown = until != _FOR_EVER and loop.now < until  # it was deleted, and the listing has not heard of that
            self._listing[key] = (since if shown or until == _FOR_EVER else loop.now + self._listed_after_ns), _FOR_EVER
            return etag

        done: str = self._operate("put", act, key, {"size": len(body), "metadata": metadata, "if_absent": if_absent})
        return done

    def get(self, key: str) -> StoredObject:
        """Return the object under `key`. Raises `FileNotFoundError`, `ServiceError`, or the error of a fault.

        Example::

            store = rig.service(ic.services.ObjectStore())
            store.put("manifests/TL-204", b"ada, bo")
            stored = store.get("manifests/TL-204")
        """

        def act() -> StoredObject:
            if key not in self._objects:
                raise FileNotFoundError(f"{self.name} has no object {key!r}")
            return self._objects[key]

        found: StoredObject = self._operate("get", act, key, {})
        return found

    def delete(self, key: str) -> bool:
        """Delete the object under `key`; return True if there was one.

        Raises `ServiceError`, or the error of a fault.

        Example::

            store = rig.service(ic.services.ObjectStore())
            assert not store.delete("manifests/TL-204")
        """
        loop = self.in_rig("delete").loop

        def act() -> bool:
            if self._objects.pop(key, None) is None:
                return False
            self._listing[key] = self._listing[key][0], loop.now + self._listed_after_ns
            return True

        return bool(self._operate("delete", act, key, {}))

    def list(self, prefix: str = "") -> list[str]:
        """Return the keys that begin with `prefix`, in order, as the listing has heard of them.

        Raises `ServiceError`, or the error of a fault.

        Example::

            store = rig.service(ic.services.ObjectStore())
            store.put("manifests/TL-204", b"ada, bo")
            assert store.list("manifests/") == ["manifests/TL-204"]
        """
        loop = self.in_rig("list").loop

        def act() -> list[str]:
            return sorted(
                key for key, (since, until) in self._listing.items()
                if key.startswith(prefix) and since <= loop.now < until
            )  # fmt: skip

        found: list[str] = self._operate("list", act, prefix, {})
        return found

    def redo(self, operation: str, key: object, data: dict[str, Any]) -> object:
        """Do an operation for a forked child. A body does not come through. Parameters: `operation` is the name of the
        operation; `key` is what it is about; `data` are its arguments."""
        raise InputError(f"{self.name}.{operation} cannot be used in a worker that dies for real (hard=True)")


_FOR_EVER = 1 << 62
