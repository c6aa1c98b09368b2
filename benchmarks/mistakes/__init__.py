"""Known mistakes of background jobs at Tern Line, each with its fixed twin, for the probe to find and to spare.

Every mistake is one story with a switch: ``story(rig, fixed)``. `MISTAKES` lists them all.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import ironclock as ic

HERE = "the story's own module"
MISTAKES: list[Mistake] = []


@dataclass(frozen=True)
class Mistake:
    """One mistake: its story, the laws that it breaks, and what the probe is told beyond that."""

    story: Callable[[ic.Rig, bool], None]
    laws: tuple[Any, ...]
    options: dict[str, Any] = field(default_factory=dict)

    @property
    def name(self) -> str:
        return self.story.__name__

    @property
    def bug(self) -> Callable[[ic.Rig], None]:
        return partial(self.story, fixed=False)

    @property
    def fix(self) -> Callable[[ic.Rig], None]:
        return partial(self.story, fixed=True)

    def probe(self, story: Callable[[ic.Rig], None], **more: Any) -> ic.Findings:
        options = {**self.options, **more}
        if options.get("lines") == HERE:
            options["lines"] = self.story.__module__
        return ic.probe(story, self.laws, **options)


def breaks(*laws: Any, **options: Any) -> Callable[[Any], Any]:
    """List a story among the mistakes, with the laws that it breaks."""

    def wrap(story: Any) -> Any:
        MISTAKES.append(Mistake(story, laws, options))
        return story

    return wrap


from . import dates, doubles, losses, order, protection, sharing, steps  # noqa: E402, F401
