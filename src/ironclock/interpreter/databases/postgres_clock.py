"""The clock of PostgreSQL follows the rig's: in statements, defaults, views, functions and triggers.

Functions in the schema `ironclock` return what a setting of the session says, or the real time if there is no
setting. Statements are changed on their way to the server (`clock_words`), and what is stored in the database
(defaults of columns, views, functions) is changed while a rig needs it. Afterwards everything is as it was. If a test
is killed, sessions without the setting still get the real time, and the next run repairs the rest.

Several processes can use one database: each holds a shared advisory lock, and the last one puts everything back
(https://www.postgresql.org/docs/current/explicit-locking.html#ADVISORY-LOCKS).
"""

from __future__ import annotations

import contextlib
import datetime as dt
import re
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from ...errors import DatabaseClockError, RigWarning
from .clock_words import SCHEMA, real, simulated
from .contents import Contents, Rows

NOW, BEGAN = f"{SCHEMA}.now", f"{SCHEMA}.began"
"""Settings of a session: the rig's time, and the time at which its transaction has begun."""

IDENTIFY = f"select count(*) from pg_catalog.pg_proc p where p.pronamespace = to_regnamespace('{SCHEMA}')"
"""The answer is not 0 if the functions are in the database of a session."""

_CHANGE, _USE = 0x49726F6E01, 0x49726F6E02  # advisory locks: one changes the database; somebody uses it
_PATIENCE_S = 5  # how long an open transaction can be in the way when a rig begins
_AT_LEAVE_MS = 50  # and when it is left: if it is longer, the process puts everything back when it ends
_AT_END_MS = 500
_IS_DENIED = re.compile("permission denied|must be owner", re.IGNORECASE)


def _functions() -> list[str]:
    """Return the statements that make the functions."""
    made = []

    def add(name: str, type: str, stable: bool, setting: str, form: str, otherwise: str, takes: str = "") -> None:
        value = f"coalesce(nullif(current_setting('{setting}', true), '')::timestamptz, {otherwise})"
        made.append(
            f'create or replace function {SCHEMA}."{name}"({takes}) returns {type} language sql '
            f"{'stable' if stable else 'volatile'} parallel safe as $$ select {form.format(value)} $$"
        )

    add("now", "timestamptz", True, BEGAN, "{}", "pg_catalog.now()")
    add("transaction_timestamp", "timestamptz", True, BEGAN, "{}", "pg_catalog.now()")
    add("statement_timestamp", "timestamptz", True, NOW, "{}", "pg_catalog.statement_timestamp()")
    add("clock_timestamp", "timestamptz", False, NOW, "{}", "pg_catalog.clock_timestamp()")
    add(
        "timeofday", "text", False, NOW,
        "to_char({0}, 'Dy Mon DD HH24:MI:SS.US YYYY ') || to_char({0}, 'TZ')",
        "pg_catalog.clock_timestamp()",
    )  # fmt: skip
    for name, type in (
        ("current_timestamp", "timestamptz"), ("localtimestamp", "timestamp"), ("current_time", "timetz"),
        ("localtime", "time"),
    ):  # fmt: skip
        add(name, type, True, BEGAN, f"{{}}::{type}", "pg_catalog.now()")
        # The functions of the names of types round to a number of digits.
        add(name, type, True, BEGAN, f'pg_catalog."{type}"({{}}::{type}, $1)', "pg_catalog.now()", "digits integer")
    add("current_date", "date", True, BEGAN, "{}::date", "pg_catalog.now()")
    return made


def _of_the_application(namespace: str) -> str:
    """Return the condition that an object `t` belongs to the application. `namespace` is the column of its schema."""
    return (
        f"t.{namespace} not in (select oid from pg_namespace where nspname ~ '^pg_' or "
        f"nspname in ('information_schema', '{SCHEMA}')) and "
        "not exists (select from pg_depend d where d.objid = t.oid and d.deptype in ('e', 'i'))"
    )


_STORED = f"""
    select format('alter table %s alter column %I set default ', a.adrelid::regclass, c.attname),
           pg_get_expr(a.adbin, a.adrelid), '', format('the default of %s.%I', a.adrelid::regclass, c.attname)
    from pg_attrdef a join pg_attribute c on c.attrelid = a.adrelid and c.attnum = a.adnum
    join pg_class t on t.oid = a.adrelid
    where c.attgenerated = '' and t.relpersistence <> 't' and {_of_the_application("relnamespace")}
    union all
    select format('create or replace view %s %s as ', t.oid::regclass,
                  'with (' || array_to_string(t.reloptions, ', ') || ')'),
           pg_get_viewdef(t.oid), '', format('the view %s', t.oid::regclass)
    from pg_class t where t.relkind = 'v' and t.relpersistence <> 't' and {_of_the_application("relnamespace")}
    union all
    select '', pg_get_functiondef(t.oid), t.oid::text, format('the function %s', t.oid::regprocedure)
    from pg_proc t join pg_language l on l.oid = t.prolang
    where t.prokind in ('f', 'p') and l.lanname in ('sql', 'plpgsql') and {_of_the_application("pronamespace")}
    order by 4
"""  # how to put a definition in place, the definition, the identity of a function, and what it is in words
_NOT_CHANGED = f"""
    select format('the constraint %I of %s', t.conname, t.conrelid::regclass), pg_get_constraintdef(t.oid)
    from pg_constraint t where t.contype = 'c' and t.conrelid <> 0 and {_of_the_application("connamespace")}
    union all
    select format('the materialized view %s', t.oid::regclass), pg_get_viewdef(t.oid)
    from pg_class t where t.relkind = 'm' and {_of_the_application("relnamespace")}
    union all
    select format('the policy %I of %s', p.polname, t.oid::regclass), concat_ws(' ',
           pg_get_expr(p.polqual, p.polrelid), pg_get_expr(p.polwithcheck, p.polrelid))
    from pg_policy p join pg_class t on t.oid = p.polrelid where {_of_the_application("relnamespace")}
    union all
    select format('the domain %s', t.oid::regtype), t.typdefault
    from pg_type t where t.typdefault is not null and {_of_the_application("typnamespace")}
"""
VERSION = "select pg_current_snapshot()::text"
"""Shows the transactions that have written something. The rig asks for it itself, and it reads no clock."""
_BEGIN = "begin; set local search_path = pg_catalog; set local check_function_bodies = off; set local lock_timeout = "


class Query(Protocol):
    """Runs one statement on a session of the rig's own, in real time; returns its rows as text."""

    def __call__(self, sql: str, /) -> list[list[Any]]: ...


@dataclass
class Session:
    """What is known of one connection of the application."""

    follows: bool | None = None
    """True if its database has the functions. None: nobody has asked."""
    now_us: int = -1
    """The time that it has, in microseconds since 1970. -1: not known."""
    began_us: int = -1
    can_be_taken_away: bool = False
    """True if the times were set inside a transaction: a rollback takes them away."""

    def setting(self, now_us: int, idle: bool) -> str | None:
        """Return the statement that tells the session the time. None if the session knows it.

        Parameters: `idle` is True if no transaction is open: what follows begins one.
        """
        if idle and self.can_be_taken_away:
            self.forget()
        began_us = now_us if idle or self.began_us < 0 else self.began_us
        if self.now_us == now_us and self.began_us == began_us:
            return None
        self.now_us, self.began_us, self.can_be_taken_away = now_us, began_us, not idle
        return (
            f"select set_config('{NOW}', '{_text(now_us)}', false), set_config('{BEGAN}', '{_text(began_us)}', false)"
        )

    def forget(self) -> None:
        """Forget which time the session has."""
        self.now_us = -1
        self.can_be_taken_away = False


UNSET = f"select set_config('{NOW}', '', false), set_config('{BEGAN}', '', false)"
"""Gives the real time back to a session."""


def _text(us: int) -> str:
    return str(dt.datetime(1970, 1, 1) + dt.timedelta(microseconds=us)) + "+00"


class InstalledClock:
    """The functions in one database, in use by this process.

    Parameters: `open_session` opens a session of the rig's own. `name` is the database in words. `tell` is called with
    what cannot be changed, in words.
    """

    def __init__(
        self, open_session: Callable[[], tuple[Query, Callable[[], None]]], name: str, tell: Callable[[str], None]
    ) -> None:  # fmt: skip
        self.name = name
        self._open_session = open_session
        self._rows: Rows | None = None
        try:
            self._query, self._end = open_session()
        except Exception as error:
            raise DatabaseClockError(
                f"{name} does not answer: {_short(error)}; start the server, or correct the URL"
            ) from error
        try:
            self._install(tell)
        except BaseException:
            self._end()
            raise

    def contents(self) -> Contents:
        """Return what is in the tables of the database."""
        if self._rows is None:
            self._rows = Rows(self._query)
        return self._rows.read()

    def _install(self, tell: Callable[[str], None]) -> None:
        query = self._query
        try:
            query(f"select pg_advisory_lock({_CHANGE})")
            query(f"{_BEGIN} '{_PATIENCE_S}s'")
            query(f"create schema if not exists {SCHEMA}")
            query(f"grant usage on schema {SCHEMA} to public")
            query("; ".join(_functions()))
            query(f"create table if not exists {SCHEMA}.originals (id oid primary key, definition text not null)")
            for how, definition, identity, what in query(_STORED):
                changed = simulated(definition)
                if changed != definition:
                    if identity:
                        query(
                            f"insert into {SCHEMA}.originals values ({identity}, {_quoted(definition)}) "
                            "on conflict (id) do update set definition = excluded.definition"
                        )
                    self._change(how + changed, what)
            for what, definition in query(_NOT_CHANGED):
                if simulated(definition) != definition:
                    tell(f"{what} of {self.name} reads the real clock: {definition.strip()}")
            query("commit")
            query(f"select pg_advisory_lock_shared({_USE})")
            query(f"select pg_advisory_unlock({_CHANGE})")
        except DatabaseClockError:
            raise
        except Exception as error:
            raise DatabaseClockError(self._words(error)) from error

    def _drop_functions(self) -> None:
        """Drop the schema with everything in it."""
        query = self._query
        query(f"drop table {SCHEMA}.originals")
        functions = query(
            f"select format('{SCHEMA}.%I(%s)', proname, pg_get_function_identity_arguments(oid)) from pg_proc "
            f"where pronamespace = '{SCHEMA}'::regnamespace"
        )
        query(f"drop function {', '.join(name for (name,) in functions)}")
        query(f"drop schema {SCHEMA}")

    def _change(self, statement: str, what: str) -> None:
        try:
            self._query(statement)
        except Exception as error:
            if "lock timeout" in str(error):
                raise DatabaseClockError(
                    f"{what} of {self.name} cannot be changed, since {self._in_the_way()} has used it in a transaction "
                    "that is open; commit or roll back first, or call rig.database before that"
                ) from error
            raise DatabaseClockError(f"{what}: {self._words(error)}") from error

    def _in_the_way(self) -> str:
        """Return in words who has an open transaction in this database."""
        with contextlib.suppress(Exception):
            query, end = self._open_session()
            try:
                rows = query(
                    "select pid, state, left(query, 60) from pg_stat_activity where datname = current_database() and "
                    "pid <> pg_backend_pid() and xact_start is not null and application_name <> 'ironclock'"
                )
            finally:
                end()
            if rows:
                return " or ".join(f"session {pid} ({state}: {query.strip()})" for pid, state, query in rows)
        return "another session"

    def _words(self, error: Exception) -> str:
        said = _short(error)
        if _IS_DENIED.search(said):
            ((user, database),) = self._query_after_error("select current_user, current_database()")
            return (
                f"the clock of {self.name} cannot follow as user {user}: {said}; give rig.database the URL of a user "
                f"who owns the database and its tables, or run: GRANT CREATE ON DATABASE {database} TO {user}. "
                "Nothing was changed"
            )
        return f"the clock of {self.name} cannot follow: {said}. Nothing was changed"

    def _query_after_error(self, sql: str) -> list[list[Any]]:
        with contextlib.suppress(Exception):
            self._query("rollback")
        try:
            return self._query(sql)
        except Exception:
            return [["unknown", "unknown"]]

    def restore_later(self) -> bool:
        """Try `restore` once more, with a new session."""
        try:
            self._query, self._end = self._open_session()
        except Exception:  # the server has gone, and the database with it
            return True
        return self.restore(_AT_END_MS)

    def restore(self, patience_ms: int = _AT_LEAVE_MS) -> bool:
        """Put everything back, unless another process uses it; return False if that has to be tried again."""
        query = self._query
        try:
            query("reset lock_timeout")  # who has read the tables has set it
            query(f"select pg_advisory_lock({_CHANGE})")
            query(f"select pg_advisory_unlock_shared({_USE})")
            ((alone,),) = query(f"select pg_try_advisory_lock({_USE})")
            if str(alone) not in ("t", "True"):
                return True  # another process uses it, and puts it back
            try:
                query(f"{_BEGIN} '{patience_ms}ms'")
                originals = dict(query(f"select id::text, definition from {SCHEMA}.originals"))
                for how, definition, identity, _ in query(_STORED):
                    before = originals.get(identity)
                    if before is not None and simulated(before) == definition:
                        query(before)
                    elif real(definition) != definition:
                        query(how + real(definition))
                query("savepoint before_drop")
                try:
                    self._drop_functions()
                except Exception as error:
                    query("rollback to savepoint before_drop")
                    warnings.warn(
                        f"{self.name} keeps the schema {SCHEMA}, since something made in the rig depends on it "
                        f"({_short(error)}); drop that first",
                        RigWarning, stacklevel=2,
                    )  # fmt: skip
                query("commit")
            except Exception:
                with contextlib.suppress(Exception):
                    query("rollback")
                return False
            return True
        except Exception:  # the server has gone: there is nothing to put back
            return True
        finally:
            with contextlib.suppress(Exception):
                self._end()


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _short(error: BaseException) -> str:
    return str(error).strip().split("\n")[0] or type(error).__name__
