"""A PostgreSQL server of the tests' own, on a loopback port, gone with them."""

from __future__ import annotations

import glob
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
from pathlib import Path
from typing import Any


def _binaries() -> Path | None:
    for found in sorted(glob.glob("/usr/lib/postgresql/*/bin/initdb"), reverse=True):
        return Path(found).parent
    which = shutil.which("initdb")
    return None if which is None else Path(which).resolve().parent


def missing() -> str:
    """Return in words what is missing for a server; empty where nothing is."""
    if _binaries() is None:
        return "PostgreSQL is not installed here (Debian: postgresql-15)"
    try:
        import psycopg  # noqa: F401
    except ImportError:
        return "psycopg is not installed here"
    if os.geteuid() == 0 and _owner() is None:
        return "PostgreSQL does not run as root, and there is no other user here to run it"
    return ""


def _owner() -> str | None:
    """Return the user that the server runs as: it refuses to be root."""
    for name in ("postgres", "nobody"):
        try:
            return pwd.getpwnam(name).pw_name
        except KeyError:
            continue
    return None


class PostgreSQL:
    """A running server. `connect` opens a connection to it."""

    def __enter__(self) -> PostgreSQL:
        binaries = _binaries()
        assert binaries is not None
        self._home = Path(tempfile.mkdtemp(prefix="tern-line-"))
        data = self._home / "data"
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self._as = [] if os.geteuid() else ["setpriv", f"--reuid={_owner()}", "--clear-groups"]
        if self._as:
            shutil.chown(self._home, _owner())
        self._control = [*self._as, str(binaries / "pg_ctl"), "-D", str(data), "-w"]
        initdb = [*self._as, str(binaries / "initdb"), "-D", str(data), "-U", "tern", "-A", "trust", "-N", "-E", "UTF8"]
        subprocess.run(initdb, check=True, capture_output=True)
        options = f"-p {self.port} -c listen_addresses=127.0.0.1 -c fsync=off -c unix_socket_directories='' -c max_connections=20"
        subprocess.run(
            [*self._control, "-l", str(self._home / "log"), "-o", options, "start"],
            check=True,
            stdout=subprocess.DEVNULL,
        )
        return self

    def __exit__(self, *_: object) -> None:
        subprocess.run([*self._control, "-m", "immediate", "stop"], check=False, stdout=subprocess.DEVNULL)
        shutil.rmtree(self._home, ignore_errors=True)

    def connect(self) -> Any:
        """Open a connection."""
        import psycopg

        return psycopg.connect(host="127.0.0.1", port=self.port, user="tern", dbname="postgres", connect_timeout=10)

    def clients(self, connection: Any) -> int:
        """Return how many clients there are beside this connection."""
        asked = (
            "select count(*) from pg_stat_activity where backend_type = 'client backend' and pid != pg_backend_pid()"
        )
        found = connection.execute(asked).fetchone()[0]
        connection.rollback()
        return int(found)
