"""Writes docs/reference.md from the docstrings of the public names: python docs/reference.py [FILE]."""

from __future__ import annotations

import dataclasses
import functools
import inspect
import re
import sys
from pathlib import Path
from typing import Any

import click

import ironclock as ic
from ironclock.cli.main import main as commands

PARTS = (
    ("The rig", "Rig Job Attempt JobSet DeadLetters JobType Call Policy"),
    ("What goes wrong", "Faults Fault"),
    ("Retries", "Retry fixed linear exponential"),
    ("Schedules", "cron every every_after once sun rrule Schedule Scheduled"),
    ("Queues, flows, transactions", "QueueControl Workflow Resource Transaction Request"),
    ("Capturing", "reading Enqueue Tap Columns Outbox"),
    ("Worker loops", "LoopGroup WorkerLoop Delivery"),
    ("Histories", "History Entry Effects Effect World compare Comparison log_history check_log"),
    ("Scenarios and forecasts", "Scenario forecast Forecast advise Advice storm_load"),
    ("The probe", "probe Findings Finding Coverage Progress"),
)  # fmt: skip


def main(path: str) -> None:
    """Write the page."""
    lines = [
        "# Reference",
        "",
        "Made from the docstrings by `python docs/reference.py`. Nothing here is written by hand.",
        "",
    ]
    listed: set[str] = set()
    for title, names in PARTS:
        lines += [f"## {title}", ""]
        for name in names.split():
            listed.add(name)
            lines += _thing(f"ic.{name}", getattr(ic, name))
    lines += ["## Laws", "", "In `ironclock.laws`.", ""]
    for name in sorted(n for n in ic.laws.__all__ if n[0].islower()):
        lines += _function(f"ic.laws.{name}", getattr(ic.laws, name), "###")
    lines += ["## Simulated services", "", "In `ironclock.services`.", ""]
    for name in sorted(ic.services.__all__):
        lines += _thing(f"ic.services.{name}", getattr(ic.services, name))
    rest = [name for name in ic.__all__ if name not in listed and inspect.isclass(getattr(ic, name, None))]
    lines += ["## Errors, and other names", "", "| name | what it is |", "|---|---|"]
    lines += [f"| `ic.{name}` | {_first(getattr(ic, name))} |" for name in rest]
    lines += ["", "## Commands", ""]
    root = click.Context(commands)
    for name in commands.list_commands(root):
        command = commands.get_command(root, name)
        assert command is not None
        text = command.get_help(
            click.Context(command, info_name=f"ironclock {name}", terminal_width=110, max_content_width=110)
        )
        lines += [f"### ironclock {name}", "", "```text", text.rstrip(), "```", ""]
    Path(path).write_text("\n".join(lines).rstrip() + "\n", encoding="utf-8")


def _thing(name: str, thing: Any) -> list[str]:
    if not inspect.isclass(thing):
        return _function(name, thing, "###")
    lines = [f"### {name}", ""]
    own = thing.__init__ if "__init__" in vars(thing) and not dataclasses.is_dataclass(thing) else thing
    lines += [f"`{name.rpartition('.')[2]}{_signature(own, skip=own is not thing)}`", "", *_doc(thing), ""]
    rows = []
    for attribute, member in _members(thing):
        if isinstance(member, (property, functools.cached_property)):
            rows.append(f"- `.{attribute}`: {_first(member)}")
        elif callable(member) or isinstance(member, (classmethod, staticmethod)):
            inner = getattr(member, "__func__", member)
            rows.append(
                f"- `.{attribute}{_signature(inner, skip=not isinstance(member, staticmethod))}`: {_first(inner)}"
            )
    return lines + rows + ([""] if rows else [])


def _members(thing: type) -> list[tuple[str, Any]]:
    found: dict[str, Any] = {}
    for base in reversed(thing.__mro__):
        if base.__module__.startswith("ironclock"):
            found.update({n: m for n, m in vars(base).items() if not n.startswith("_")})
    return [
        (n, m)
        for n, m in found.items()
        if getattr(m, "__doc__", None) and not (inspect.isclass(m) or isinstance(m, str | int))
    ]


def _function(name: str, function: Any, head: str) -> list[str]:
    return [f"{head} {name}", "", f"`{name.rpartition('.')[2]}{_signature(function)}`", "", *_doc(function), ""]


def _signature(function: Any, skip: bool = False) -> str:
    try:
        signature = inspect.signature(function)
    except (TypeError, ValueError):
        return "(...)"
    parameters = list(signature.parameters.values())[1 if skip else 0 :]
    shown = [p.replace(annotation=inspect.Parameter.empty) for p in parameters]
    words = str(inspect.Signature(shown))
    return re.sub(r"<[^<>]*(<[^<>]*>[^<>]*)*>", "...", words)


def _doc(thing: Any) -> list[str]:
    return (inspect.getdoc(thing) or "").replace("``", "`").splitlines()


def _first(thing: Any) -> str:
    words = (inspect.getdoc(thing) or "").split("\n\n")[0]
    return " ".join(words.replace("``", "`").replace("|", "\\|").split())


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else str(Path(__file__).parent / "reference.md"))
