"""`ironclock probe`: search a story from the command line, replay a token, write a test."""

from __future__ import annotations

import importlib
import importlib.util
import json
import sys
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING, Any

import click

import ironclock as ic

if TYPE_CHECKING:
    from ..explore.findings import Finding


@click.command(short_help="Search a story for faults that break a law.")
@click.argument("story")
@click.option("--laws", "laws_name", help="The name, in the story's module, of the laws to check. LAWS, if there.")
@click.option(
    "--runs", type=click.IntRange(1), help="Runs at most. Each single fault and 500 more, or 1,000, if left out."
)
@click.option("--depth", default=2, show_default=True, type=click.IntRange(0), help="How many faults at once.")
@click.option("--faults", help="The kinds of fault, with commas: fail,crash,... All, where left out.")
@click.option("--orders/--no-orders", default=True, help="Run what is due at one instant in other orders too.")
@click.option("--preemptions", default=2, show_default=True, type=click.IntRange(0), help="Interruptions at most.")
@click.option("--lines", multiple=True, metavar="MODULE", help="Let jobs be interrupted at every line of a module.")
@click.option("--takes", multiple=True, metavar="NAME=A..B", help="How long a job or an effect may take: poll=1s..20m.")
@click.option(
    "--starts", is_flag=True, help="Start before a clock change, a month's end, a leap day, a year's end too."
)
@click.option("--start", help="The rig's start: ISO 8601. RIG of the module, where left out.")
@click.option("--zone", help="The rig's time zone.")
@click.option("--seed", default=0, show_default=True, help="What every lot that is drawn follows from.")
@click.option("--first", is_flag=True, help="End with the first law found broken.")
@click.option("--processes", default=1, show_default=True, type=click.IntRange(1), help="How many processes search.")
@click.option("--cluster", metavar="ADDRESS", help="Search on a Dask distributed cluster: tcp://host:8786.")
@click.option("--resume", type=click.Path(dir_okay=False), help="Keep the search in this file, or go on with it.")
@click.option("--replay", metavar="TOKEN", help="Search nothing; run the story once as this token says.")
@click.option("--write-test", type=click.Path(dir_okay=False), help="Write the first finding as a pytest file.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON for a script.")
def probe(
    story: str, laws_name: str | None, runs: int | None, depth: int, faults: str | None, orders: bool,
    preemptions: int, lines: tuple[str, ...], takes: tuple[str, ...], starts: bool, start: str | None,
    zone: str | None, seed: int, first: bool, processes: int, cluster: str | None, resume: str | None,
    replay: str | None, write_test: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Search a STORY for faults, orders and timings that break a law.

    STORY is a function of a rig: package.module:function, or path/to/file.py:function. Its module may name LAWS (a
    list of laws) and RIG (a dict of arguments of the rig). Exit code 0: nothing found, 1: a law is broken, 2: the
    story cannot be searched. Ctrl-C ends the search and shows what was found so far.
    """
    module, function = _find(story)
    laws = _laws(module, laws_name)
    world = {**getattr(module, "RIG", {}), **{k: v for k, v in (("start", start), ("zone", zone)) if v is not None}}
    if replay is not None:
        sys.exit(_replay(function, laws, world, replay))
    with _Meter() as meter:
        found = ic.probe(
            function, laws, runs=runs, depth=depth, faults=None if faults is None else faults.split(","),
            orders=orders, preemptions=preemptions, lines=lines, durations=dict(map(_range, takes)), starts=starts,
            seed=seed, rig=world, first=first, processes=processes, cluster=cluster, resume=resume, progress=meter.show,
        )  # fmt: skip
    if write_test is not None and found:
        _write_test(write_test, found[0], story, module, laws_name, world)
    if as_json:
        click.echo(json.dumps(_as_json(found), ensure_ascii=False, indent=1))
    else:
        _show(found, story)
        if write_test is not None:
            click.echo(f"\nwrote {write_test}" if found else f"\n{write_test} is not written: nothing was found")
    sys.exit(1 if found else 0)


def _find(story: str) -> tuple[ModuleType, Any]:
    """Return the story and its module; raise `InputError` in words for what is none."""
    place, colon, name = story.rpartition(":")
    if not colon or not place or not name:
        raise ic.InputError(f"{story!r} names no story; write package.module:function or path/to/file.py:function")
    if str(Path.cwd()) not in sys.path:
        sys.path.insert(0, str(Path.cwd()))
    if place.endswith(".py"):
        path = Path(place).resolve()
        if not path.is_file():
            raise ic.InputError(f"there is no file {place}")
        # By its own name from its own folder, so that other processes can import it the same way.
        if str(path.parent) not in sys.path:
            sys.path.insert(0, str(path.parent))
        place = path.stem
    try:
        module = importlib.import_module(place)
    except ImportError as error:
        raise ic.InputError(f"the story's module {place} cannot be imported: {error}") from None
    found: Any = module
    for part in name.split("."):
        found = getattr(found, part, None)
    if not callable(found):
        from ..core.errors import nearest

        known = [n for n, v in vars(module).items() if callable(v) and not n.startswith("_")]
        raise ic.InputError(f"{place} has no function {name!r}; {nearest(name, known)}")
    return module, found


def _laws(module: ModuleType, name: str | None) -> Any:
    laws = getattr(module, name or "LAWS", None)
    if laws is None:
        if name is not None:
            raise ic.InputError(f"{module.__name__} has no {name!r} to take laws from")
        return ()
    return laws


def _range(text: str) -> tuple[str, tuple[str, str]]:
    name, equals, span = text.partition("=")
    low, dots, high = span.partition("..")
    if not (name and equals and dots and low and high):
        raise ic.InputError(f"--takes is {text!r}; write NAME=SHORTEST..LONGEST, such as poll_buoy=1s..20m")
    return name, (low, high)


def _replay(function: Any, laws: Any, world: dict[str, Any], token: str) -> int:
    """Run a story as a token says; tell it, and return the exit code."""
    from ..core.laws import told
    from ..explore.trial import Trial, checked_laws
    from ..steering.kinds import Model
    from ..steering.plan import Plan
    from ..steering.token import first_difference, read

    rig = ic.Rig(**world)
    rig.replay(token)
    ended: Exception | None = None
    try:
        with rig:
            try:
                function(rig)
            except ic.ReplayError:
                raise
            except Exception as error:
                ended = error
    finally:
        rig.close()
    click.echo(rig.history.story())
    difference = first_difference(read(token), rig.history)
    if difference:
        click.echo(f"\nThe story has changed since the token was made: {difference}.")
    if ended is not None:
        click.echo(f"\nThe story itself raised {type(ended).__name__}: {ended}")
    trial = Trial(function, (*checked_laws(laws), ic.laws.no_deadlock()), Model())
    breaches, raised = trial.judge(rig, Plan())
    if raised:
        raise ic.LawError(raised)
    for breach in breaches:
        click.echo(f"\n✗ {breach.law}:\n{told(breach, rig.history)}")
    if not breaches and ended is None:
        click.echo("\n✓ every law holds")
    return 1 if breaches or ended is not None else 0


def _write_test(
    path: str, finding: Finding, story: str, module: ModuleType, laws_name: str | None, world: dict[str, Any]
) -> None:
    from ..explore.findings import as_test

    name = laws_name or ("LAWS" if hasattr(module, "LAWS") else "")
    place, _, function = story.rpartition(":")
    folder = Path(place).resolve().parent if place.endswith(".py") else None
    beside = folder is None or folder == Path(path).resolve().parent
    text = as_test(finding, f"{module.__name__}:{function}", name, world, "" if beside else str(folder))
    try:
        Path(path).write_text(text, encoding="utf-8")
    except OSError as error:
        raise ic.IronClockError(f"cannot write {path}: {error.strerror}") from None


def _as_json(found: ic.Findings) -> dict[str, Any]:
    names = ("law", "words", "moves", "token", "story", "digest", "at_run", "shrunk_in", "also")
    return {
        "findings": [{name: getattr(one, name) for name in names} for one in found],
        "coverage": vars(found.coverage),
    }


def _show(found: ic.Findings, story: str) -> None:
    from rich.text import Text

    from ..report.text import console

    screen = console()
    for finding in found:
        head, *rest = str(finding).split("\n")
        screen.print(Text(f"✗ {head}", style="bold red"), soft_wrap=True)
        for number, line in enumerate(rest):
            moves = 0 < number <= len(finding.moves)
            title = line.startswith(("  when", "  the shortest", "  which"))
            screen.print(Text(line, style="yellow" if moves else "bold" if title else ""), soft_wrap=True)
        screen.print()
    if not found:
        screen.print(Text("✓ nothing found", style="bold green"))
    screen.print(Text(str(found.coverage), style="dim"), soft_wrap=True)
    if found:
        screen.print(Text(f"again: ironclock probe {story} --replay {found[0].token}"), soft_wrap=True)


class _Meter:
    """Shows how far a search is, on one line of a terminal, once it has taken a second."""

    def __init__(self) -> None:
        self._shown = False
        self._terminal = sys.stderr.isatty()

    def __enter__(self) -> _Meter:
        return self

    def __exit__(self, *_: object) -> None:
        if self._shown:
            click.echo("\r" + " " * 78 + "\r", nl=False, err=True)

    def show(self, progress: ic.Progress) -> None:
        if not self._terminal or (not self._shown and progress.runs < progress.rate):
            return
        self._shown = True
        left = f"{progress.left_s:,.0f} s left at most"
        line = f"{progress.runs:,} of {progress.most:,} runs, {progress.rate:,.0f} a second, {left}"
        click.echo(f"\r{line}; {progress.broken} laws broken so far".ljust(79)[:79], nl=False, err=True)
