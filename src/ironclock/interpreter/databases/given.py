"""What a user gives for a database: a URL, or an object of a common package that knows one."""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from typing import Any, NamedTuple
from urllib.parse import parse_qsl, unquote, urlsplit

from ...errors import InputError, nearest

_KINDS = {
    "sqlite": "sqlite", "postgresql": "postgres", "postgres": "postgres", "psycopg": "postgres",
    "psycopg2": "postgres", "asyncpg": "postgres", "mysql": "mariadb", "mariadb": "mariadb", "pymysql": "mariadb",
    "redis": "key-value", "valkey": "key-value", "rediss": "key-value over TLS", "valkeys": "key-value over TLS",
    "aiomysql": "mariadb", "asyncmy": "mariadb", "MySQLdb": "mariadb", "sqlite3": "sqlite", "aiosqlite": "sqlite",
}  # fmt: skip
_WANTED = (
    "give a URL (postgresql://..., mysql://..., sqlite:///..., redis://...), the words of libpq (host=... dbname=...), "
    "the name of an environment variable that has one of these, an entry of Django's DATABASES, an engine, a session "
    "maker, a session or a connection of SQLAlchemy, django.db.connection, a connection or a pool of psycopg, psycopg2 "
    "or asyncpg, a connection of a MySQL driver, or a client of a key-value server"
)


_VARIABLE = re.compile(r"[A-Z_][A-Z0-9_]*")
_PAIR = re.compile(r"(\w+)\s*=\s*('(?:[^'\\]|\\.)*'|[^\s']+)")
_PAIRS = re.compile(r"\s*(?:\w+\s*=\s*(?:'(?:[^'\\]|\\.)*'|[^\s']+)\s*)+")
_LIBPQ = frozenset((
    "host", "hostaddr", "port", "user", "password", "passfile", "dbname", "sslmode", "sslrootcert", "sslcert", "sslkey",
    "service", "connect_timeout", "options", "application_name", "client_encoding", "target_session_attrs",
))  # fmt: skip
# Source: https://www.postgresql.org/docs/current/libpq-connect.html#LIBPQ-PARAMKEYWORDS


class Server(NamedTuple):
    """A database that was recognised."""

    kind: str
    """``"sqlite"``, ``"postgres"``, ``"mariadb"`` or ``"key-value"``."""
    parameters: dict[str, Any]
    """How to connect: to PostgreSQL, in the words of libpq, or to a key-value server. Empty for the others."""


def recognised(given: Any) -> Server:
    """Return what a database is, of which something was given. Raises `InputError` for anything else."""
    found = _recognised(given)
    if found is None and callable(given) and not isinstance(given, type):
        found = _recognised(given())
    if found is None:
        raise InputError(f"the database is {given!r}; {_WANTED}")
    return found


def _recognised(given: Any) -> Server | None:
    if isinstance(given, str):
        return _of_text(given)
    if isinstance(given, dict):
        return _of_settings(given)
    url: Any = getattr(given, "url", None)
    if hasattr(url, "drivername") and hasattr(url, "render_as_string"):  # an engine of SQLAlchemy
        return _of_url(url.render_as_string(hide_password=False))
    engine = _engine(given)
    if engine is not None:
        return _recognised(engine)
    pool: Any = getattr(given, "connection_pool", None)
    if isinstance(getattr(pool, "connection_kwargs", None), dict):  # a client of a key-value server
        return _of_client(pool.connection_kwargs)
    vendor = getattr(given, "vendor", None)
    if vendor is not None and hasattr(given, "settings_dict"):  # of Django
        kind = {"postgresql": "postgres", "mysql": "mariadb", "sqlite": "sqlite"}.get(vendor)
        if kind is None:
            return None
        return Server(kind, _of_django(given) if kind == "postgres" else {})
    return _of_driver(given)


def _engine(given: Any) -> Any:
    """Return the engine behind a connection, a session or a session maker of SQLAlchemy. None for anything else."""
    for name in ("engine", "bind", "sync_engine"):
        found = getattr(given, name, None)
        if hasattr(getattr(found, "url", None), "drivername"):
            return found
    options = getattr(given, "kw", None)  # of a session maker
    if isinstance(options, dict) and options.get("bind") is not None:
        return _engine_of(options["bind"])
    return None


def _engine_of(bind: Any) -> Any:
    return bind if hasattr(getattr(bind, "url", None), "drivername") else _engine(bind)


def _of_text(text: str) -> Server:
    """Recognise a URL, the words of libpq, or the name of an environment variable that has one of them."""
    if _VARIABLE.fullmatch(text):
        value = os.environ.get(text)
        if value is None:
            raise InputError(f"the database is {text!r}, and no environment variable has that name; {_WANTED}")
        if _VARIABLE.fullmatch(value):
            raise InputError(f"the environment variable {text} is {value!r}; {_WANTED}")
        return _of_text(value)
    if "://" not in text and _PAIRS.fullmatch(text):
        pairs = {name: _unquoted(value) for name, value in _PAIR.findall(text)}
        unknown = sorted(pairs.keys() - _LIBPQ)
        if unknown:
            raise InputError(
                f"the database is {text!r}, and libpq has no parameter {unknown[0]!r}; {nearest(unknown[0], _LIBPQ)}"
            )
        port = {"port": int(pairs["port"])} if pairs.get("port", "").isdigit() else {}
        return Server("postgres", {**pairs, **port})
    return _of_url(text)


def _unquoted(value: str) -> str:
    return re.sub(r"\\(.)", r"\1", value[1:-1] if value.startswith("'") else value)


def _of_settings(given: dict[str, Any]) -> Server | None:
    """Recognise an entry of Django's DATABASES."""
    engine = str(given.get("ENGINE", "")).rpartition(".")[2]
    kind = {"postgresql": "postgres", "postgis": "postgres", "mysql": "mariadb", "sqlite3": "sqlite"}.get(engine)
    if kind is None:
        return None
    return Server(kind, _of_django_settings(given) if kind == "postgres" else {})


def _of_url(text: str) -> Server:
    parts = urlsplit(text)
    name = parts.scheme.partition("+")[0]
    kind = _KINDS.get(name) if parts.scheme else None
    if kind is None or ":" not in text:
        raise InputError(f"the database is {text!r}; {_WANTED}")
    try:
        port = parts.port
    except ValueError:
        raise InputError(f"the URL {text!r} has no usable port; give a number from 1 to 65535") from None
    if kind == "key-value over TLS":
        raise InputError(f"the URL {text!r} asks for TLS, which a proxy cannot read; test with a server without TLS")
    if kind == "key-value":
        path = parts.path.strip("/")
        if path and not path.isdigit():
            raise InputError(f"the URL {text!r} names the database {path!r}; give its number, such as /0")
        names = (parts.username, parts.password)
        login = tuple(unquote(word) for word in names if word) if parts.password else ()
        found = {"host": parts.hostname or "127.0.0.1", "port": port or 6379, "db": int(path or 0), "login": login}
        return Server(kind, found)
    if kind != "postgres":
        return Server(kind, {})
    asked = dict(parse_qsl(parts.query))
    parameters = {
        "host": asked.pop("host", None) or (unquote(parts.hostname) if parts.hostname else None),
        "port": asked.pop("port", None) or port,
        "user": None if parts.username is None else unquote(parts.username),
        "password": None if parts.password is None else unquote(parts.password),
        "dbname": unquote(parts.path.lstrip("/")) or None,
        **{name: value for name, value in asked.items() if name in ("sslmode", "sslrootcert", "sslcert", "sslkey")},
    }
    return Server("postgres", {name: value for name, value in parameters.items() if value is not None})


def _of_client(options: dict[str, Any]) -> Server | None:
    if "host" not in options:
        return None
    login = tuple(options[name] for name in ("username", "password") if options.get(name))
    found = {"host": options["host"], "port": options.get("port", 6379), "db": options.get("db", 0), "login": login}
    return Server("key-value", found)


def _of_django(connection: Any) -> dict[str, Any]:
    return _of_django_settings(connection.settings_dict)


def _of_django_settings(settings: dict[str, Any]) -> dict[str, Any]:
    pairs = {"HOST": "host", "PORT": "port", "USER": "user", "PASSWORD": "password", "NAME": "dbname"}
    options = {n: v for n, v in settings.get("OPTIONS", {}).items() if n in ("sslmode", "sslrootcert", "service")}
    return {ours: settings[theirs] for theirs, ours in pairs.items() if settings.get(theirs)} | options


def _of_driver(given: Any) -> Server | None:
    """Recognise a connection or a pool of a driver by the module of its class."""
    for cls in type(given).__mro__:
        top = cls.__module__.partition(".")[0]
        parameters = _PARAMETERS.get(top)
        if parameters is not None:
            found = parameters(given)
            return None if found is None else Server("postgres", found)
        kind = "mariadb" if cls.__module__.startswith("mysql.connector") else _KINDS.get(top)
        if kind is not None and hasattr(given, "cursor"):
            return Server(kind, {})
    return None


def _of_psycopg(given: Any) -> dict[str, Any] | None:
    info = getattr(given, "info", None)
    if info is None:
        return None
    parameters = dict(info.get_parameters())
    return parameters | ({"password": info.password} if info.password else {})


def _of_psycopg_pool(given: Any) -> dict[str, Any] | None:
    from psycopg.conninfo import conninfo_to_dict

    known = ("host", "port", "user", "password", "dbname", "sslmode")
    kwargs = getattr(given, "kwargs", None) or {}
    more = {name: kwargs[name] for name in known if isinstance(kwargs, dict) and name in kwargs}
    return {**conninfo_to_dict(given.conninfo), **more}


def _of_psycopg2(given: Any) -> dict[str, Any] | None:
    info = getattr(given, "info", None)
    if info is None:
        pool = getattr(given, "_kwargs", None)  # a pool
        return None if pool is None else dict(pool)
    return {**info.dsn_parameters, **({"password": info.password} if info.password else {})}


def _of_asyncpg(given: Any) -> dict[str, Any] | None:
    address: Any = getattr(given, "_addr", None)
    parameters: Any = getattr(given, "_params", None)
    if address is None:  # a pool
        args, kwargs = getattr(given, "_connect_args", ()), getattr(given, "_connect_kwargs", {})
        dsn = kwargs.get("dsn") or (args[0] if args else None)
        if dsn:
            return _of_url(dsn).parameters
        pairs = {"host": "host", "port": "port", "user": "user", "password": "password", "database": "dbname"}
        return {ours: kwargs[theirs] for theirs, ours in pairs.items() if kwargs.get(theirs)} or None
    host, port = address if isinstance(address, tuple) else (address.rpartition("/")[0], address.rpartition(".")[2])
    found = {"host": host, "port": port, "user": parameters.user, "dbname": parameters.database}
    return found | ({"password": parameters.password} if isinstance(parameters.password, str) else {})


_PARAMETERS: dict[str, Callable[[Any], dict[str, Any] | None]] = {
    "psycopg": _of_psycopg, "psycopg_pool": _of_psycopg_pool, "psycopg2": _of_psycopg2, "asyncpg": _of_asyncpg,
}  # fmt: skip
