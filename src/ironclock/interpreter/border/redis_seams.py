"""Seams in the commands of a key-value server, in the client package `redis`: sync and async, pipelines and scripts.

Only a command that has changed something is a place at which faults can strike: a poll that finds nothing is none.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from ..patching.builtin_patching import Here
from ..patching.patches import Attribute, Patch
from .call_seams import always, seams_of

_TAKES = frozenset((
    "LPOP", "RPOP", "LMOVE", "RPOPLPUSH", "BLPOP", "BRPOP", "BLMOVE", "BRPOPLPUSH", "LMPOP", "BLMPOP", "SPOP",
    "ZPOPMIN", "ZPOPMAX", "BZPOPMIN", "BZPOPMAX", "ZMPOP", "BZMPOP", "XREADGROUP", "XCLAIM", "XAUTOCLAIM", "GETDEL",
))  # fmt: skip
"""Commands with which somebody takes what is there. Before one nothing has happened yet."""
_WRITES = frozenset((
    "APPEND", "COPY", "DECR", "DECRBY", "DEL", "EXPIRE", "EXPIREAT", "GETEX", "GETSET", "HDEL", "HINCRBY",
    "HINCRBYFLOAT", "HMSET", "HSET", "HSETNX", "INCR", "INCRBY", "INCRBYFLOAT", "LINSERT", "LPUSH", "LPUSHX", "LREM",
    "LSET", "LTRIM", "MOVE", "MSET", "MSETNX", "PERSIST", "PEXPIRE", "PEXPIREAT", "PFADD", "PFMERGE", "PSETEX",
    "PUBLISH", "RENAME", "RENAMENX", "RESTORE", "RPUSH", "RPUSHX", "SADD", "SDIFFSTORE", "SET", "SETBIT", "SETEX",
    "SETNX", "SETRANGE", "SINTERSTORE", "SMOVE", "SPUBLISH", "SREM", "SUNIONSTORE", "UNLINK", "XACK", "XADD", "XDEL",
    "XTRIM", "ZADD", "ZINCRBY", "ZRANGESTORE", "ZREM", "ZREMRANGEBYRANK", "ZREMRANGEBYSCORE", "EVAL", "EVALSHA",
    "FCALL",
))  # fmt: skip
# Source: the group "write" of https://redis.io/docs/latest/commands/.
_ZERO_CHANGES = frozenset(("HSET", "ZADD", "HMSET", "EVAL", "EVALSHA", "FCALL", "PUBLISH", "SPUBLISH", "INCR", "DECR",
                           "INCRBY", "DECRBY", "HINCRBY", "ZINCRBY", "INCRBYFLOAT", "HINCRBYFLOAT"))  # fmt: skip
"""Commands that can have changed something although they return 0."""
_VARIES = re.compile(r"[0-9a-f]{8,}(?:-[0-9a-f]{4,})*|\d+")
_MOST_WORDS = 3


def redis_patches(here: Here) -> list[Patch]:
    """Return the patches of `redis`."""
    import redis
    from redis import asyncio as redis_asyncio
    from redis.exceptions import ConnectionError as OwnError

    def commands(real: Callable[..., Any]) -> Callable[..., Any]:
        def execute_command(self: Any, *args: Any, **options: Any) -> Any:
            seams, name = seams_of(here(), "redis"), _verb(args)
            if seams is None or name not in _SEAMS:
                return real(self, *args, **options)
            what = _named(name, args)
            if name in _WRITES:
                seams.before(what, OwnError)
            result = real(self, *args, **options)
            if _has_changed(name, result):
                seams.after(what, OwnError)
            return result

        return execute_command

    def commands_async(real: Callable[..., Any]) -> Callable[..., Any]:
        async def execute_command(self: Any, *args: Any, **options: Any) -> Any:
            seams, name = seams_of(here(), "redis"), _verb(args)
            if seams is None or name not in _SEAMS:
                return await real(self, *args, **options)
            what = _named(name, args)
            if name in _WRITES:
                await seams.before_async(what, OwnError)
            result = await real(self, *args, **options)
            if _has_changed(name, result):
                await seams.after_async(what, OwnError)
            return result

        return execute_command

    def pipelines(real: Callable[..., Any]) -> Callable[..., Any]:
        def execute(self: Any, *args: Any, **options: Any) -> Any:
            seams = seams_of(here(), "redis")
            what = "" if seams is None else _named_together(self.command_stack)
            if seams is None or not what:
                return real(self, *args, **options)
            return seams.around(what, lambda: real(self, *args, **options), OwnError, always)

        return execute

    def pipelines_async(real: Callable[..., Any]) -> Callable[..., Any]:
        async def execute(self: Any, *args: Any, **options: Any) -> Any:
            seams = seams_of(here(), "redis")
            what = "" if seams is None else _named_together(self.command_stack)
            if seams is None or not what:
                return await real(self, *args, **options)
            return await seams.around_async(what, lambda: real(self, *args, **options), OwnError, always)

        return execute

    return [
        Attribute(redis.Redis, "execute_command", commands),
        Attribute(redis_asyncio.Redis, "execute_command", commands_async),
        Attribute(redis.client.Pipeline, "execute", pipelines),
        Attribute(redis_asyncio.client.Pipeline, "execute", pipelines_async),
    ]


_SEAMS = _TAKES | _WRITES


def _verb(args: tuple[Any, ...]) -> str:
    return _text(args[0]).upper() if args else ""


def _text(word: Any) -> str:
    return word.decode("utf-8", "replace") if isinstance(word, bytes) else str(word)


def _named(name: str, args: tuple[Any, ...]) -> str:
    """Return the name of a command, such as ``redis LREM locks:*``: numbers and random words are stars."""
    at = 1
    if name in ("EVAL", "EVALSHA", "FCALL", "BLMPOP", "BZMPOP"):
        at = 3
    elif name in ("LMPOP", "ZMPOP"):
        at = 2
    elif name == "XREADGROUP":
        words = [_text(word).upper() for word in args]
        at = words.index("STREAMS") + 1 if "STREAMS" in words else len(args)
    key = _VARIES.sub("*", _text(args[at])) if len(args) > at else ""
    return f"redis {name} {key}".rstrip()


def _named_together(stack: list[Any]) -> str:
    """Return the name of the commands of a pipeline. Empty if none of them writes."""
    names = []
    for entry in stack:
        args = entry.args if hasattr(entry, "args") else entry[0]
        name = _verb(args)
        if name in _SEAMS:
            names.append(_named(name, args).removeprefix("redis "))
    names = list(dict.fromkeys(names))
    more = ", ..." if len(names) > _MOST_WORDS else ""
    return f"redis {', '.join(names[:_MOST_WORDS])}{more}" if names else ""


def _has_changed(name: str, result: Any) -> bool:
    """Return True if a command can have changed something, by what it has returned."""
    if result is None or (isinstance(result, (list, tuple, dict, set)) and not result):
        return name in ("EVAL", "EVALSHA", "FCALL")
    return bool(result) or name in _ZERO_CHANGES
