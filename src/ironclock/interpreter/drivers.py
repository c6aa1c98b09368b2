"""The packages whose waits, clocks and seams a rig knows: each with the function that returns its patches.

A package of somebody else can add its own with an entry point of the group ``ironclock.drivers``: its name is that of
the module that is patched, and it names a function that gets `here` and returns patches.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from importlib import import_module
from importlib.metadata import entry_points
from typing import NamedTuple

from ..errors import RigStateError
from .patching.builtin_patching import Here
from .patching.patches import LatePatches, Patch


class Driver(NamedTuple):
    """What is patched in one module, as soon as somebody imports it."""

    module: str
    patches: str
    """The function that returns its patches, as ``module:name`` in this package."""


DRIVERS = (
    Driver("_sqlite3", "border.sqlite:clock_patches"),
    Driver("sqlite3", "border.sqlite:connection_patches"),
    Driver("asyncio", "tasks.asyncio_sleeps:asyncio_patches"),
    Driver("ctypes", "tasks.asynchronous_errors:asynchronous_error_patches"),
    Driver("concurrent.futures.thread", "tasks.executors:pool_patches"),
    Driver("asgiref.current_thread_executor", "tasks.executors:current_thread_patches"),
    Driver("uuid", "border.clock_readers:uuid_patches"),
    Driver("bdb", "tasks.debugger:debugger_patches"),
    Driver("uvloop", "border.other_loops:uvloop_patches"),
    Driver("gevent.hub", "border.other_loops:gevent_patches"),
    Driver("ssl", "border.tls:tls_patches"),
    Driver("http.client", "border.http_seams:standard_patches"),
    Driver("httpcore", "border.http_seams:httpcore_patches"),
    Driver("aiohttp", "border.http_seams:aiohttp_patches"),
    Driver("asyncpg", "border.postgres:asyncpg_patches"),
    Driver("psycopg", "border.postgres:psycopg_patches"),
    Driver("psycopg2", "border.postgres:psycopg2_patches"),
    Driver("pymysql", "databases.mariadb:pymysql_patches"),
    Driver("aiomysql", "databases.mariadb:aiomysql_patches"),
    Driver("MySQLdb", "databases.mariadb:mysqldb_patches"),
    Driver("mysql.connector", "databases.mariadb:connector_patches"),
)


def late_patches(here: Here) -> LatePatches:
    """Return the patches of all drivers, each of which is made when its module is there."""
    makers: dict[str, Callable[[], list[Patch]]] = {one.module: partial(_own, one, here) for one in DRIVERS}
    for found in entry_points(group="ironclock.drivers"):
        if found.name in makers:
            raise RigStateError(
                f"the package {found.dist.name if found.dist else found.value} has patches for the module "
                f"{found.name!r}, which Iron Clock patches itself; remove its entry point ironclock.drivers"
            )
        makers[found.name] = partial(lambda one: one.load()(here), found)
    return LatePatches(makers)


def _own(driver: Driver, here: Here) -> list[Patch]:
    module, name = driver.patches.split(":")
    made: list[Patch] = getattr(import_module(f".{module}", __package__), name)(here)
    return made
