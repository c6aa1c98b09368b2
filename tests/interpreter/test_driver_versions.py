"""The oldest and the newest version of each driver that is said to be known, from the registry, with real servers."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
import servers
from postgres import PostgreSQL, missing

import ironclock as ic
from ironclock.interpreter.drivers import DRIVERS, KnownVersions

ROOT = Path(__file__).parents[2]
STORY = Path(__file__).with_name("driver_story.py")
PACKAGES = {"psycopg": "psycopg[binary]"}
STORIES = {"mysql.connector": "mysql_connector"}
KNOWN = [(driver.module, driver.known) for driver in DRIVERS if driver.known is not None and driver.is_tested]


@pytest.fixture(scope="module")
def ports() -> Iterator[dict[str, int]]:
    if lacks := missing() or servers.mariadb_missing() or servers.redis_missing():
        pytest.skip(lacks)
    with PostgreSQL() as postgres, servers.MariaDB() as mariadb, servers.SlowHttp() as http, servers.Redis() as redis:
        with postgres.connect() as one:
            one.execute("create table berths (id int primary key, boats int)")
            one.execute("insert into berths values (1, 0)")
        import pymysql

        two = pymysql.connect(host="127.0.0.1", port=mariadb.port, user="root", autocommit=True)
        with two, two.cursor() as cursor:
            cursor.execute("create database tern")
            cursor.execute("create table tern.berths (id int primary key, boats int) engine=innodb")
            cursor.execute("insert into tern.berths values (1, 0)")
        of_mariadb = dict.fromkeys(("pymysql", "aiomysql", "mysql.connector"), mariadb.port)
        yield {
            **dict.fromkeys(("psycopg", "psycopg2", "asyncpg"), postgres.port), **of_mariadb,
            "redis": redis.port, **dict.fromkeys(("httpcore", "aiohttp"), int(http.url.rpartition(":")[2].strip("/"))),
        }  # fmt: skip


@pytest.mark.exhaustive
@pytest.mark.slow
@pytest.mark.xdist_group("driver versions")
@pytest.mark.parametrize("which", ["oldest", "newest"])
@pytest.mark.parametrize(("module", "known"), KNOWN, ids=[module for module, _ in KNOWN])
def test_a_known_version_works(
    module: str, known: KnownVersions, which: str, ports: dict[str, int], tmp_path: Path
) -> None:
    version = getattr(known, which)
    spec = f"{PACKAGES.get(module, known.package)}=={version}"
    subprocess.run(
        [sys.executable, "-m", "pip", "install", "--quiet", "--target", str(tmp_path), spec],
        check=True, timeout=240, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    done = subprocess.run(
        [sys.executable, str(STORY), STORIES.get(module, module), known.package, str(ports[module])],
        capture_output=True, text=True,
        env={**os.environ, "PYTHONPATH": f"{tmp_path}{os.pathsep}{ROOT / 'src'}"}, timeout=120, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    assert re.match(rf"fits {re.escape(version)}\b", done.stdout), done.stdout


def test_the_table_of_versions_is_in_the_docs() -> None:
    page = (ROOT / "docs" / "border.md").read_text()
    for driver in DRIVERS:
        if driver.known is not None:
            known = driver.known
            assert f"| {known.package} | {known.oldest} | {known.newest} |" in page


def test_an_unknown_version_is_an_error_that_names_it(tmp_path: Path) -> None:
    package = tmp_path / "pymysql"
    package.mkdir()
    (package / "__init__.py").write_text("class OperationalError(Exception): pass\n")
    (package / "connections.py").write_text("class Connection:\n    def ask(self): pass\n")
    about = tmp_path / "PyMySQL-7.0.dist-info"
    about.mkdir()
    (about / "METADATA").write_text("Metadata-Version: 2.1\nName: PyMySQL\nVersion: 7.0\n")
    code = "import ironclock as ic\nwith ic.Rig():\n    import pymysql\n"
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=False,
        env={**os.environ, "PYTHONPATH": f"{tmp_path}{os.pathsep}{ROOT / 'src'}"},
    )  # fmt: skip
    assert done.returncode == 1
    assert "the patches for pymysql do not fit PyMySQL 7.0" in done.stderr.splitlines()[-1]
    assert "versions from " in done.stderr.splitlines()[-1]


def test_a_driver_of_somebody_else_is_found_by_its_entry_point(tmp_path: Path) -> None:
    (tmp_path / "lighthouse.py").write_text("def flash():\n    return 'real'\n")
    (tmp_path / "lighthouse_patches.py").write_text(
        "from ironclock.interpreter.patching.patches import Function\n"
        "def patches(here):\n"
        "    import lighthouse\n"
        "    def make(real):\n"
        "        return lambda: real() if here() is None else str(here().loop.moment.year)\n"
        "    return [Function(lighthouse.flash, make)]\n"
    )
    about = tmp_path / "lighthouse-1.0.dist-info"
    about.mkdir()
    (about / "METADATA").write_text("Metadata-Version: 2.1\nName: lighthouse\nVersion: 1.0\n")
    (about / "entry_points.txt").write_text("[ironclock.drivers]\nlighthouse = lighthouse_patches:patches\n")
    code = (
        "import lighthouse\nfrom lighthouse import flash\nimport ironclock as ic\n"
        "with ic.Rig():\n    print(flash())\nprint(flash())\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=False,
        env={**os.environ, "PYTHONPATH": f"{tmp_path}{os.pathsep}{ROOT / 'src'}"},
    )  # fmt: skip
    assert (done.stdout, done.returncode) == ("2031\nreal\n", 0), done.stderr
    assert ic.__version__
