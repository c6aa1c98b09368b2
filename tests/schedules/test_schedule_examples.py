"""The ferry line's four schedules, and the documents about schedules."""

from __future__ import annotations

import re
import runpy
from pathlib import Path

import pytest

import ironclock as ic
from tern_line import watch

ROOT = Path(__file__).parents[2]


def test_four_watches_over_the_clock_change() -> None:
    pytest.importorskip("astral")
    story = runpy.run_path(str(ROOT / "examples" / "schedules" / "four_watches.py"))["story"]
    rig = ic.Rig(start="2031-03-29T12:00", zone="Atlantic/Faroe")
    story(rig)
    tills = [line for line in watch.log if "till closed" in line]
    assert [line[:9] for line in tills[:2]] == ["Sun 02:30", "Mon 01:30"], "the skipped hour, shifted"
    assert len(tills) == 9
    lights = [line for line in watch.log if "lights" in line]
    assert len(lights) == 9
    assert lights[0].startswith("Sat 19:0")
    assert lights[1].startswith("Sun 20:0"), "an hour later by the clock"
    assert [line for line in watch.log if "tide" in line] == ["Mon 06:00 tide table for April 2031"]
    assert rig.schedules["poll-buoy"].skipped == 9 * 24 - 1, "one after each full hour but the last"


def test_the_page_on_schedules() -> None:
    pytest.importorskip("astral")
    page = (ROOT / "docs" / "schedules.md").read_text(encoding="utf-8")
    blocks = re.findall(r"^```python\n(.*?)^```", page, re.MULTILINE | re.DOTALL)
    assert len(blocks) >= 4
    names: dict[str, object] = {}
    for block in blocks:
        exec(compile(block, "docs/schedules.md", "exec"), names)
