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

from ..foundation.example_files import example
from ..search.fault_model import IN_A_ROW
from .output import print_text, screen
from .progress_line import ProgressLine

if TYPE_CHECKING:
    from ..search.findings import Finding


@click.command(short_help="Search a story for faults that break a law.")
@click.argument("story")
@click.option(
    "--laws", "laws_name", help="The name of the laws in the module of the story. Default: LAWS, if it has them."
)
@click.option(
    "--runs",
    type=click.IntRange(1),
    help="Runs at most. Default: each single fault and 500 more, or 1,000 if that is more.",
)
@click.option("--depth", default=2, show_default=True, type=click.IntRange(0), help="How many faults at once.")
@click.option("--faults", help="The kinds of fault, with commas: fail,crash,... Default: all.")
@click.option("--orders/--no-orders", default=True, help="Run what is due at one instant in other orders too.")
@click.option(
    "--preemptions",
    default=2,
    show_default=True,
    type=click.IntRange(0),
    help="How often a job can be interrupted for another one.",
)
@click.option("--seams", help="Kinds of real calls that can fail, with commas: sql,files,http,sockets. Default: none.")
@click.option("--slow", default="1m", show_default=True, help="How much longer something takes.")
@click.option("--delay", default="1m", show_default=True, help="How late a job or a firing comes.")
@click.option("--outage", default="10m", show_default=True, help="How long a service is away.")
@click.option(
    "--in-a-row", multiple=True, type=click.IntRange(2), help="How often in a row it fails. Default: 2 3 5 10."
)
@click.option("--lines", multiple=True, metavar="MODULE", help="Interrupt jobs at every line of this module as well.")
@click.option("--takes", multiple=True, metavar="NAME=A..B", help="How long a job or an effect takes: poll=1s..20m.")
@click.option(
    "--starts",
    is_flag=True,
    help="Also start before a clock change, the end of a month, a leap day, the end of a year.",
)
@click.option("--start", help="The start of the rig: ISO 8601. Default: as RIG of the module says.")
@click.option("--zone", help="The rig's time zone.")
@click.option("--seed", default=0, show_default=True, help="Everything that is drawn by lot follows from it.")
@click.option("--first", is_flag=True, help="End with the first law that is broken.")
@click.option(
    "--processes", default=1, show_default=True, type=click.IntRange(1), help="How many processes do the runs."
)
@click.option("--cluster", metavar="ADDRESS", help="Do the runs on a Dask distributed cluster: tcp://host:8786.")
@click.option(
    "--resume", type=click.Path(dir_okay=False), help="Save the search in this file, or continue the search in it."
)
@click.option("--replay", metavar="TOKEN", help="Do not search; run the story once as this token says.")
@click.option("--write-test", type=click.Path(dir_okay=False), help="Write the first finding as a pytest file.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON for a script.")
def probe(
    story: str, laws_name: str | None, runs: int | None, depth: int, faults: str | None, orders: bool,
    preemptions: int, seams: str | None, slow: str, delay: str, outage: str, in_a_row: tuple[int, ...],
    lines: tuple[str, ...], takes: tuple[str, ...], starts: bool, start: str | None, zone: str | None, seed: int,
    first: bool, processes: int, cluster: str | None, resume: str | None, replay: str | None, write_test: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Search a STORY for faults, orders and timings that break a law.

    STORY is a function that gets a rig: package.module:function, or path/to/file.py:function. Its module can have LAWS
    (a list of laws) and RIG (a dict of arguments of the rig). Exit code 0: nothing was found, 1: a law is broken, 2:
    the story cannot be searched. Ctrl-C ends the search, and shows what was found so far.
    """
    module, function = _find(story)
    laws = _laws(module, laws_name)
    world = {**getattr(module, "RIG", {}), **{k: v for k, v in (("start", start), ("zone", zone)) if v is not None}}
    if replay is not None:
        sys.exit(_replay(function, laws, world, replay))
    with _SearchMeter() as meter:
        found = ic.probe(
            function, laws, runs=runs, depth=depth, faults=None if faults is None else faults.split(","),
            orders=orders, preemptions=preemptions, seams=() if seams is None else seams.split(","), slow=slow,
            delay=delay, outage=outage, in_a_row=in_a_row or IN_A_ROW, lines=lines,
            durations=dict(map(_range, takes)), starts=starts, seed=seed, rig=world, first=first, processes=processes,
            cluster=cluster, resume=resume, progress=meter.show,
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
    """Return the story and its module. Raises `InputError`."""
    place, colon, name = story.rpartition(":")
    if not colon or not place or not name:
        raise ic.InputError(f"the story is {story!r}; give package.module:function or path/to/file.py:function")
    if str(Path.cwd()) not in sys.path:
        sys.path.insert(0, str(Path.cwd()))
    if place.endswith(".py"):
        path = Path(example(place)).resolve()
        if not path.is_file():
            raise ic.InputError(f"there is no file {place}; give path/to/file.py:function")
        # By its name from its folder, so that other processes can import it in the same way.
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
        from ..errors import nearest

        known = [n for n, v in vars(module).items() if callable(v) and not n.startswith("_")]
        raise ic.InputError(f"{place} has no function {name!r}; {nearest(name, known)}")
    return module, found


def _laws(module: ModuleType, name: str | None) -> Any:
    laws = getattr(module, name or "LAWS", None)
    if laws is None:
        if name is not None:
            from ..errors import nearest

            known = [known for known in vars(module) if not known.startswith("_")]
            raise ic.InputError(f"{module.__name__} has no {name!r} with laws; {nearest(name, known)}")
        return ()
    return laws


def _range(text: str) -> tuple[str, tuple[str, str]]:
    name, equals, span = text.partition("=")
    low, dots, high = span.partition("..")
    if not (name and equals and dots and low and high):
        raise ic.InputError(f"--takes is {text!r}; give NAME=SHORTEST..LONGEST, such as poll_buoy=1s..20m")
    return name, (low, high)


def _replay(function: Any, laws: Any, world: dict[str, Any], token: str) -> int:
    """Run a story as a token says, and show it; return the exit code."""
    from ..laws.law import told
    from ..search.fault_model import FaultModel
    from ..search.plan import Plan
    from ..search.replay_token import first_difference, read
    from ..search.runs import SearchedStory, checked_laws

    rig = ic.Rig(**{**world, "judged": False})
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
    trial = SearchedStory(function, (*checked_laws(laws), ic.laws.no_deadlock()), FaultModel())
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
    from ..search.findings import as_test

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
    names = ("law", "words", "moves", "token", "story", "comparison", "digest", "at_run", "shrunk_in", "also")
    return {
        "findings": [{name: getattr(one, name) for name in names} for one in found],
        "coverage": vars(found.coverage),
    }


def _show(found: ic.Findings, story: str) -> None:
    from rich.text import Text

    console = screen()
    for finding in found:
        head, *rest = str(finding).split("\n")
        print_text(console, Text(f"✗ {head}", style="bold red"))
        for number, line in enumerate(rest):
            moves = 0 < number <= len(finding.moves)
            title = line.startswith(("  when", "  the shortest", "  what "))
            marked = moves or line.startswith("    > ")
            print_text(console, Text(line, style="yellow" if marked else "bold" if title else ""))
        console.print()
    if not found:
        console.print(Text("✓ nothing found", style="bold green"))
    print_text(console, Text(str(found.coverage), style="dim"))
    if found:
        print_text(console, Text(f"again: ironclock probe {story} --replay {found[0].token}"))


class _SearchMeter:
    """Shows how far a search is, after the first second. Shows nothing outside a terminal."""

    def __init__(self) -> None:
        self._line = ProgressLine()

    def __enter__(self) -> _SearchMeter:
        return self

    def __exit__(self, *_: object) -> None:
        self._line.clear()

    def show(self, progress: ic.Progress) -> None:
        """Show how far it is."""
        if not self._line.on_terminal or (not self._line.shown and progress.runs < progress.rate):
            return
        left = f"{progress.left_s:,.0f} s left at most"
        words = f"{progress.runs:,} of {progress.most:,} runs, {progress.rate:,.0f} a second, {left}"
        self._line.show(f"{words}; {progress.broken} laws broken so far")
