"""asyncpg: its clock, its waits and its seams. It waits in asyncio, which follows the rig."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..databases.given import recognised
from ..databases.postgres_clock import IDENTIFY
from ..patching.builtin_patching import Here
from ..patching.patches import Attribute, Patch
from .call_seams import always, seams_of, sql_call
from .postgres import session_asks

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig


def asyncpg_patches(here: Here) -> list[Patch]:
    """Return the patch of `asyncpg`: it waits in asyncio, and only who is in whose way is not known there."""
    from asyncpg import connect_utils, connection, protocol

    def connects(real: Callable[..., Any]) -> Callable[..., Any]:
        async def connect(*args: Any, **kwargs: Any) -> Any:
            connection = await real(*args, **kwargs)
            world = here()
            if world is not None:
                _know_asyncpg(world, connection)
            return connection

        return connect

    def sends(statement: int | None) -> Callable[[Any], Any]:
        """Return a function that makes a method from a real one. Its argument of that number is a statement."""

        def make(real: Callable[..., Any]) -> Callable[..., Any]:
            async def method(self: Any, *args: Any, **kwargs: Any) -> Any:
                world = here()
                if world is not None:
                    follows = await _asyncpg_clock(world, self, asks)
                    sql = getattr(args[0] if args else kwargs.get("state"), "query", None)
                    if statement is not None and len(args) > statement:
                        sql = world.border.database_clocks.statement(args[statement], follows)
                        args = (*args[:statement], sql, *args[statement + 1 :])
                    seams = seams_of(world, "sql")
                    about = None if seams is None or not sql else sql_call(sql)
                    if seams is not None and about is not None:
                        return await seams.around_async(
                            about[0],
                            lambda: real(self, *args, **kwargs),
                            _asyncpg_error,
                            always if about[1] else None,
                        )
                return await real(self, *args, **kwargs)

            return method

        return make

    def gets_statement(real: Callable[..., Any]) -> Callable[..., Any]:
        async def get(self: Any, query: str, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None:
                session = await _asyncpg_session_of(world.border.database_clocks, self._protocol, asks)
                query = world.border.database_clocks.statement(query, session)
            return await real(self, query, *args, **kwargs)

        return get

    asks = protocol.Protocol.query
    methods: dict[str, int | None] = {
        "query": 0, "copy_in": 0, "copy_out": 0, "bind": None, "bind_execute": None, "bind_execute_many": None,
    }  # fmt: skip
    return [
        Attribute(connect_utils, "_connect", connects),
        Attribute(connection.Connection, "_get_statement", gets_statement),
        *(Attribute(protocol.Protocol, name, sends(statement)) for name, statement in methods.items()),
    ]


async def _asyncpg_session_of(clocks: Any, protocol: Any, asks: Any) -> Any:
    """Return what is known of a connection, after it was asked if it follows. None if nothing follows."""
    if not clocks.postgres_follows:
        return None
    session = clocks.session(protocol, lambda _: None)
    if session.follows is None:
        session.follows = False  # the question is a statement as well
        session.follows = await asks(protocol, _FOLLOWS, None) != "SELECT 0"
    return session


def _asyncpg_error(message: str) -> BaseException:
    from asyncpg import PostgresConnectionError

    error: BaseException = PostgresConnectionError(message)
    return error


_FOLLOWS = f"{IDENTIFY} having count(*) > 0"  # asyncpg tells how many rows there are


async def _asyncpg_clock(world: EnteredRig, protocol: Any, asks: Any) -> Any:
    """Tell the server the time before it gets a statement; return the session. None if nothing follows."""
    clocks = world.border.database_clocks
    session = await _asyncpg_session_of(clocks, protocol, asks)
    if session is not None and session.follows:
        setting = session.setting(clocks.now_us, not protocol.is_in_transaction())
        if setting is not None:
            await asks(protocol, setting, None)
    return session


def _know_asyncpg(world: EnteredRig, connection: Any) -> None:
    """Note the session of a connection, so that a wait for a lock of another session of this process is known."""
    conninfo = recognised(connection).parameters
    if str(conninfo["host"]).startswith("/"):
        return
    server = "asyncpg", conninfo["host"], conninfo["port"], conninfo["dbname"]
    fd = connection._transport.get_extra_info("socket").fileno()
    session_asks(world, world.border.descriptors.exchange(fd), fd, server, connection.get_server_pid(), connection)
