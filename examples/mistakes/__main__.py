"""Show each mistake: the law that its bug breaks, with the proof, and that its fix keeps it."""

from __future__ import annotations

import importlib
import sys
from types import ModuleType
from typing import Any

import ironclock as ic
from mistakes import NAMES


def broken(module: ModuleType, story: Any) -> str:
    """Return what the laws say of a story; empty where they hold."""
    rig = ic.Rig(start="2031-03-29T21:00", zone="Atlantic/Faroe", payload=getattr(module, "PAYLOAD", "json"))
    with rig:
        story(rig)
    rig.close()
    try:
        rig.check(*module.LAWS)
    except ic.BrokenLaw as error:
        return str(error)
    return ""


def main(names: list[str]) -> int:
    """Show the mistakes of these names; return how many are not as they should be."""
    wrong = 0
    for name in names or NAMES:
        module = importlib.import_module(f"mistakes.{name}")
        title, _, rest = str(module.__doc__).partition("\n")
        print(f"\n{name}: {title}{rest.rstrip()}")
        with_bug, with_fix = broken(module, module.bug), broken(module, module.fix)
        print("  with the bug, " + (with_bug or "NO LAW IS BROKEN"))
        print("  with the fix, " + (with_fix or "every law holds"))
        wrong += not with_bug or bool(with_fix)
    return wrong


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
