"""`ironclock init`: read a project, propose taps, and write the first test."""

from __future__ import annotations

import inspect
import tomllib
from pathlib import Path
from typing import Any

import click

import ironclock as ic

from ..capture.project_scan import Enqueuer, Project, scan
from ..capture.readings import spelled
from .output import print_text, screen, shown_error

_TEST = "tests/test_first_rig.py"
_MOST = 12


@click.command(short_help="Read a project, and write taps and a first test.")
@click.argument("folder", default=".", type=click.Path())
@click.option("--yes", is_flag=True, help="Write without questions.")
def init(folder: str, yes: bool) -> None:
    """Read the source in FOLDER (default: here), propose taps, and write the first test.

    Nothing of the project is imported or run. What looks like an enqueue with a certain reading is written into
    [tool.ironclock.taps] of pyproject.toml, and a test that passes into tests/test_first_rig.py. Files that are there
    are never overwritten.
    """
    root = Path(folder)
    if not root.is_dir():
        raise ic.IronClockError(f"{folder} is not a folder; give the folder of a project")
    project = scan(root)
    console = screen()

    def say(text: str = "", style: str = "") -> None:
        print_text(console, text, style=style)

    say(f"Read {project.files} file{'s' * (project.files != 1)} in {root.resolve().name}; nothing was imported.")
    certain = [one for one in project.enqueuers if not one.unclear]
    _list(say, "What looks like an enqueue, with a certain reading:", [
        (one.place, f"{one.target}  {spelled(one.reading)}") for one in certain
    ])  # fmt: skip
    _list(say, "What looks like an enqueue, and needs a reading of yours:", [
        (one.place, f"{one.target}  {spelled(one.reading)}; not understood: {', '.join(one.unclear)}")
        for one in project.enqueuers if one.unclear
    ])  # fmt: skip
    _list(say, "Functions by name, as a worker looks them up:", project.handlers)
    _list(
        say,
        "Cron expressions:",
        [(at, f"{text!r}: {ic.cron(text.strip()).describe()}") for at, text in project.cron_lines],
    )
    _list(say, "Tables that look like jobs (rig.outbox reads them):", project.tables)
    _list(say, "Schedulers in the process (a rig runs them as they are, in threads):", project.loops)
    _list(say, "Not understood:", project.not_understood)
    if not any((project.enqueuers, project.handlers, project.tables, project.loops, project.cron_lines)):
        say("Nothing here looks like jobs. Enqueue a function yourself: rig.enqueue(function, after='10m').")
    say()
    try:
        chosen = _write_taps(root, certain, yes, say)
        _write_test(root, project, chosen, yes, say)
    except click.Abort:
        raise ic.IronClockError(
            "a question was not answered, and nothing more was written; answer it on a terminal, or give --yes"
        ) from None
    say("Run it: pytest " + _TEST)


def _list(say: Any, title: str, entries: list[tuple[str, str]]) -> None:
    if not entries:
        return
    say()
    say(title, style="bold")
    for place, words in entries[:_MOST]:
        say(f"  {place}  {words}")
    if len(entries) > _MOST:
        say(f"  ... and {len(entries) - _MOST} more")


def _write_taps(root: Path, certain: list[Enqueuer], yes: bool, say: Any) -> list[Enqueuer]:
    path = root / "pyproject.toml"
    text = ""
    if path.exists():
        try:
            text = path.read_text(encoding="utf-8")
            known = tomllib.loads(text).get("tool", {}).get("ironclock", {}).get("taps", {})
        except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
            raise ic.IronClockError(f"{path}: {error}; nothing was written") from None
    else:
        known = {}
    there = [one for one in certain if one.target in known]
    new = [
        one for one in certain
        if one.target not in known and (yes or click.confirm(f"Tap {one.target}?", default=True))
    ]  # fmt: skip
    for one in there:
        say(f"{path.name} has a tap on {one.target} already.")
    if new:
        header = "[tool.ironclock.taps]"
        lines = "".join(f'"{one.target}" = {_toml(one.reading)}\n' for one in new)
        if header in text.splitlines():
            text = text.replace(f"{header}\n", f"{header}\n{lines}", 1)
        else:
            text = f"{text.rstrip()}\n\n{header}\n{lines}" if text.strip() else f"{header}\n{lines}"
        with shown_error(str(path)):
            path.write_text(text, encoding="utf-8")
        say(f"Wrote {len(new)} {'tap' if len(new) == 1 else 'taps'} into {path.name}.")
    return [*there, *new]


def _toml(reading: dict[str, Any]) -> str:
    words = []
    for name, value in reading.items():
        if isinstance(value, slice):
            written = f'"{value.start}:"'
        elif isinstance(value, bool):
            written = str(value).lower()
        else:
            written = "[]" if value == [] else f'"{value}"'
        words.append(f"{name} = {written}")
    return "{ " + ", ".join(words) + " }"


def _write_test(root: Path, project: Project, tapped: list[Enqueuer], yes: bool, say: Any) -> None:
    path = root / _TEST
    if path.exists():
        say(f"{_TEST} is there already, and was left as it is.")
        return
    if not yes and not click.confirm(f"Write {_TEST}?", default=True):
        return
    one = next((one for one in tapped if not one.is_method and _call(one)), None)
    text = _PLAIN if one is None else _captured(one)
    with shown_error(str(path)):
        path.parent.mkdir(exist_ok=True)
        path.write_text(text, encoding="utf-8")
    say(f"Wrote {_TEST}.")


def _call(one: Enqueuer) -> str:
    """Return a call of a tapped function with a job of the test. Empty if it needs more than is known."""
    words = []
    for name, parameter in one.signature.parameters.items():
        if name == one.reading["job"]:
            value = '"first_job"' if name in ("job_name", "task_name", "name") else "first_job"
        elif parameter.default is not inspect.Parameter.empty or parameter.kind in (
            parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD,
        ):  # fmt: skip
            continue
        elif name == one.reading.get("after"):
            value = "60"
        elif name == one.reading.get("args"):
            value = "()"
        elif name == one.reading.get("kwargs"):
            value = "{}"
        elif name == one.reading.get("queue"):
            value = '"default"'
        elif name == one.reading.get("priority"):
            value = "0"
        else:
            return ""
        words.append(f"{name}={value}" if parameter.kind is parameter.KEYWORD_ONLY else value)
    return f"{one.target.rpartition(':')[2]}({', '.join(words)})"


def _captured(one: Enqueuer) -> str:
    module, _, name = one.target.partition(":")
    by_name = '"first_job"' in _call(one)
    register = "    rig.job(first_job)\n" if by_name else ""
    return f'''"""The first test with a rig. Change it to a job of yours."""

from {module} import {name}


def first_job():
    return "done"


def test_a_job_is_captured_and_runs(rig):
{register}    {_call(one)}  # the tap in pyproject.toml captures it
    rig.jobs().must_be("first_job")
    rig.run_dry()
    assert rig.jobs("first_job").one().state == "done"
'''


_PLAIN = '''"""The first test with a rig. Change it to a job of yours."""

import time


def first_job():
    time.sleep(60)  # a minute on the rig's clock
    return "done"


def test_a_job_runs_in_simulated_time(rig):
    job = rig.enqueue(first_job, after="1h")
    rig.advance("1h")
    assert job.state == "running"
    rig.advance("1m")
    assert job.result == "done"
'''
