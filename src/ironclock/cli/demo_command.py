"""`ironclock demo`: one evening at a made-up ferry company."""

from __future__ import annotations

import sys

import click

import ironclock as ic

from . import demo_story as story
from .output import print_text, screen


@click.command(short_help="Run an evening at a made-up ferry company.")
@click.option("--seed", default=11, show_default=True, help="Every random choice follows from it.")
@click.option("--save", type=click.Path(dir_okay=False), help="Save the history into this file, as JSON Lines.")
@click.option("--story", "tell", is_flag=True, help="Show the whole run as well, entry by entry.")
def demo(seed: int, save: str | None, tell: bool) -> None:
    """Run the ferry line's evening: holds, a harbour office that is down, a refused card, a late bank."""
    from ..reports.terminal import run_report

    console = screen()
    rig = ic.Rig(start=story.START, zone=story.ZONE, seed=seed, judged=False)
    console.print("An evening at Tern Line, a made-up ferry company", style="bold")
    console.print(f"Its own code runs on a simulated clock, from {rig.now:%Y-%m-%d %H:%M} in {story.ZONE}.\n")
    seen = story.evening(rig, lambda line: console.print(line, markup=False))
    console.print()
    console.print(run_report(rig.history, console.width), width=console.width)
    if tell:
        console.print()
        print_text(console, rig.history.story())
    console.print()
    broken = 0
    for claim, held in story.as_expected(rig, seen):
        console.print(f"[green]✓[/] {claim}" if held else f"[bold red]✗ {claim}[/]")
        broken += not held
    if save:
        rig.history.save(save)
        print_text(console, f"\nSaved to {save}; look at it again with: ironclock show {save}")
    sys.exit(1 if broken else 0)
