"""`ironclock init` on small projects of different shapes; the test that it writes is run."""

from __future__ import annotations

import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

PROJECTS: dict[str, tuple[dict[str, str], list[str], dict[str, object]]] = {
    "functions": (
        {
            "queue_of.py": "def put(fn, *args, delay=0):\n    raise RuntimeError('no server')\n",
            "app.py": "from queue_of import put\ndef book(n):\n    put(confirm, n, delay=60)\ndef confirm(n):\n    return n\n",
        },
        ["queue_of.py:1  queue_of:put  ic.reading(job='fn', args=slice(1, None), after='delay', kwargs=False)",
         "Wrote 1 tap into pyproject.toml."],
        {"queue_of:put": {"job": "fn", "args": "1:", "after": "delay", "kwargs": False}},
    ),
    "names": (
        {
            "src/ferry/__init__.py": "",
            "src/ferry/jobs.py": "def confirm(n): ...\ndef release(n): ...\nHANDLERS = {'confirm': confirm, 'release': release}\n"
            "def enqueue(job_name, args, run_at=None, queue='desk'):\n    raise RuntimeError('no server')\n",
            "conftest.py": "import sys, pathlib\nsys.path.insert(0, str(pathlib.Path(__file__).parent / 'src'))\n",
        },
        ["src/ferry/jobs.py:3  names of functions: confirm -> confirm, release -> release", "ferry.jobs:enqueue"],
        {"ferry.jobs:enqueue": {"job": "job_name", "args": "args", "at": "run_at", "queue": "queue", "kwargs": False}},
    ),
    "a table and a loop": (
        {
            "worker.py": "import time\nSCHEMA = '''create table if not exists outbox (id integer primary key, name text,\n"
            "payload text, run_at real, attempts int, done_at real)'''\ndef loop():\n    while True:\n        time.sleep(1)\n",
            "schema.sql": "-- tables\ncreate table decks (id int, n int);\ncreate table jobs (id int, due_at int, state text);\n",
        },
        ["worker.py:2  outbox: run_at, attempts, done_at", "schema.sql:3  jobs: due_at, state", "worker.py:5  a loop that sleeps"],
        {},
    ),
    "a client object": (
        {
            "client.py": "class Queue:\n    def submit(self, fn, *args, delay=0, **kwargs):\n        raise RuntimeError\n"
            "    def publish(self, topic, body):\n        ...\n",
        },
        ["client.py:2  client:Queue.submit"],
        {"client:Queue.submit": {"job": "fn", "args": "2:", "after": "delay", "kwargs": True}},
    ),
    "models and crontabs": (
        {
            "models.py": "class Task(models.Model):\n    scheduled_at = models.DateTimeField()\n    status = models.TextField()\n",
            "tasks.py": "def task(fn):\n    return fn\n@task\ndef close_till():\n    return 'closed'\n",
            "deploy/plan.yaml": "jobs:\n  - name: close\n    cron: 30 1 * * *\n  - name: poll\n    cron: \"*/5 * * * *\"\n",
            "crontab": "# nightly\n15 3 * * 1 /bin/close\n",
        },
        ["models.py:1  Task: scheduled_at, status", "tasks.py:4  decorated with @task: close_till",
         "deploy/plan.yaml:3  '30 1 * * *': every day at 01:30", "deploy/plan.yaml:5  '*/5 * * * *'", "crontab:2  '15 3 * * 1'"],
        {},
    ),
    "a project that has begun": (
        {
            "pyproject.toml": "[project]\nname = 'ferry'\n\n[tool.ironclock.taps]\n\"later:put\" = {}\n\n[tool.other]\nx = 1\n",
            "later.py": "def put(job, *args, wait=0):\n    raise RuntimeError\ndef push(func, *args, meta=None, delay=0):\n    ...\n",
            "plan.toml": "[schedules]\nclose = '0 2 * * *'\n",
            "old.py": "print 'python 2'\n",
            "plugin.py": "import importlib\nimportlib.import_module('x')\n",
            "tests/test_first_rig.py": "def test_mine(rig):\n    assert rig\n",
        },
        ["pyproject.toml has a tap on later:put already.", "later:push", "not understood: meta", "old.py  is not Python that",
         "plugin.py:2  import_module(...)", "plan.toml:2  '0 2 * * *'", "tests/test_first_rig.py is there already"],
        {"later:put": {}},
    ),
}  # fmt: skip


def init(folder: Path, *options: str, answers: str = "") -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "ironclock.cli.main", "init", str(folder), *options],
        input=answers, capture_output=True, text=True, check=False, env={"COLUMNS": "250", "PATH": "/bin:/usr/bin"},
    )  # fmt: skip


def written(folder: Path, files: dict[str, str]) -> Path:
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    return folder


@pytest.mark.parametrize(
    "shape", [one if n % 2 else pytest.param(one, marks=pytest.mark.exhaustive) for n, one in enumerate(PROJECTS)]
)
def test_projects_of_different_shapes(tmp_path: Path, shape: str) -> None:
    files, lines, taps = PROJECTS[shape]
    done = init(written(tmp_path, files), "--yes")
    assert done.returncode == 0, done.stderr
    for line in lines:
        assert line in done.stdout, done.stdout
    path = tmp_path / "pyproject.toml"
    table = tomllib.loads(path.read_text(encoding="utf-8")) if path.exists() else {}
    assert table.get("tool", {}).get("ironclock", {}).get("taps", {}) == taps
    if "pyproject.toml" in files:
        assert table["tool"]["other"] == {"x": 1}
    ran = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "tests"], cwd=tmp_path, capture_output=True,
        text=True, check=False,
    )  # fmt: skip
    assert ran.returncode == 0, ran.stdout
    assert "1 passed" in ran.stdout
    again = init(tmp_path, "--yes")
    assert "Wrote" not in again.stdout, "nothing is written twice"


def test_it_asks_before_it_writes(tmp_path: Path) -> None:
    written(tmp_path, PROJECTS["functions"][0])
    done = init(tmp_path, answers="n\nn\n")
    assert "Tap queue_of:put?" in done.stdout
    assert not (tmp_path / "pyproject.toml").exists()
    assert not (tmp_path / "tests").exists()
    assert "Wrote 1 tap" in init(tmp_path, answers="y\ny\n").stdout


def test_an_empty_folder_and_none(tmp_path: Path) -> None:
    done = init(tmp_path, "--yes")
    assert "Nothing here looks like jobs" in done.stdout
    assert "Wrote tests/test_first_rig.py" in done.stdout
    none = init(tmp_path / "nowhere", "--yes")
    assert none.returncode == 2
    assert "is not a folder; give the folder of a project" in none.stderr
    (tmp_path / "pyproject.toml").write_text("[tool", encoding="utf-8")
    broken = init(tmp_path, "--yes")
    assert broken.returncode == 2
    assert "nothing was written" in broken.stderr
