"""The packages whose waits, clocks and seams a rig knows: each with the function that returns its patches.

A package of somebody else can add its own with an entry point of the group ``ironclock.drivers``: its name is that of
the module that is patched, and it names a function that gets `here` and returns patches.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from functools import partial
from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple

from ..errors import RigStateError
from .patching.builtin_patching import Here
from .patching.patches import LatePatches, Patch

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint


class KnownVersions(NamedTuple):
    """The versions of a package whose inside is known: the oldest and the newest that the tests have run with."""

    package: str
    oldest: str
    newest: str


class Driver(NamedTuple):
    """What is patched in one module, as soon as somebody imports it."""

    module: str
    patches: str
    """The function that returns its patches, as ``module:name`` in this package."""
    known: KnownVersions | None = None
    """The versions that are known. None: it comes with Python."""
    is_tested: bool = True
    """False if it needs more than the registry to be tested."""


DRIVERS = (
    Driver("_sqlite3", "border.sqlite:clock_patches"),
    Driver("sqlite3", "border.sqlite:connection_patches"),
    Driver("asyncio", "tasks.asyncio_sleeps:asyncio_patches"),
    Driver("ctypes", "tasks.asynchronous_errors:asynchronous_error_patches"),
    Driver("concurrent.futures.thread", "tasks.executors:pool_patches"),
    Driver(
        "asgiref.current_thread_executor", "tasks.executors:current_thread_patches",
        KnownVersions("asgiref", "3.6.0", "3.13.0"), is_tested=False,
    ),
    Driver("uuid", "border.clock_readers:uuid_patches"),
    Driver("bdb", "tasks.debugger:debugger_patches"),
    Driver("uvloop", "border.other_loops:uvloop_patches"),
    Driver("gevent.hub", "border.other_loops:gevent_patches"),
    Driver("ssl", "border.tls:tls_patches"),
    Driver("http.client", "border.http_seams:standard_patches"),
    Driver("httpcore", "border.http_seams:httpcore_patches", KnownVersions("httpcore", "0.17.0", "1.0.9")),
    Driver("aiohttp", "border.http_seams:aiohttp_patches", KnownVersions("aiohttp", "3.9.0", "3.14.5")),
    Driver("asyncpg", "border.asyncpg:asyncpg_patches", KnownVersions("asyncpg", "0.28.0", "0.32.0")),
    Driver("psycopg", "border.psycopg3:psycopg_patches", KnownVersions("psycopg", "3.1.8", "3.3.9")),
    Driver("psycopg2", "border.psycopg2:psycopg2_patches", KnownVersions("psycopg2-binary", "2.9.5", "2.9.13")),
    Driver("redis", "border.redis_seams:redis_patches", KnownVersions("redis", "4.5.5", "8.1.0")),
    Driver("pymysql", "databases.mariadb:pymysql_patches", KnownVersions("PyMySQL", "1.0.2", "1.2.4")),
    Driver("aiomysql", "databases.mariadb:aiomysql_patches", KnownVersions("aiomysql", "0.1.1", "0.3.2")),
    Driver("MySQLdb", "databases.mariadb:mysqldb_patches"),
    Driver(
        "mysql.connector", "databases.mariadb:connector_patches",
        KnownVersions("mysql-connector-python", "8.1.0", "26.10.0"),
    ),
)  # fmt: skip


def late_patches(here: Here) -> LatePatches:
    """Return the patches of all drivers, each of which is made when its module is there."""
    makers: dict[str, Callable[[], list[Patch]]] = {one.module: partial(_own, one, here) for one in DRIVERS}
    for found in _of_others():
        if found.name in makers:
            raise RigStateError(
                f"the package {found.dist.name if found.dist else found.value} has patches for the module "
                f"{found.name!r}, which Iron Clock patches itself; remove its entry point ironclock.drivers"
            )
        makers[found.name] = partial(lambda one: one.load()(here), found)
    return LatePatches(makers)


def _of_others() -> list[EntryPoint]:
    """Return the entry points of packages that bring patches.

    To import what reads entry points takes a quarter of the time in which a rig is imported. So it is imported only if
    a package has any.
    """
    if not any(map(_has_drivers, sys.path)):
        return []
    from importlib.metadata import entry_points

    return list(entry_points(group="ironclock.drivers"))


def _has_drivers(folder: str) -> bool:
    """Return True if a package in a folder of the import path brings patches."""
    try:
        packages = [name for name in os.listdir(folder or ".") if name.endswith((".dist-info", ".egg-info"))]
    except OSError:  # a folder that does not exist, or a zip file
        return False
    for name in packages:
        try:
            with open(os.path.join(folder, name, "entry_points.txt"), "rb") as file:
                if b"[ironclock.drivers]" in file.read():
                    return True
        except OSError:  # most packages have none
            continue
    return False


def _own(driver: Driver, here: Here) -> list[Patch]:
    module, name = driver.patches.split(":")
    make = getattr(import_module(f".{module}", __package__), name)
    try:
        made: list[Patch] = make(here)
    except (AttributeError, ImportError, KeyError, TypeError) as error:
        if driver.known is None:
            raise
        package, oldest, newest = driver.known
        raise RigStateError(
            f"the patches for {driver.module} do not fit {package} {_version_of(package)} ({error}); versions from "
            f"{oldest} to {newest} are known to work: install one of them, or a newer version of Iron Clock"
        ) from error
    return made


def _version_of(package: str) -> str:
    from importlib.metadata import PackageNotFoundError, version

    try:
        return version(package)
    except PackageNotFoundError:
        return "of an unknown version"
