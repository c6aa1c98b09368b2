"""One thing of a world that is another than the application says: with it a suite is asked if it would notice.

Each part of the simulation asks the change of its world where it does the thing. Without one nothing is asked.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, TypeAlias

if TYPE_CHECKING:
    from .policy import Policy


Becomes: TypeAlias = Literal["left out", "twice", "forgotten", "ignored"]
"""What can be done in the place of an effect."""


class Enqueued(NamedTuple):
    """What an enqueue asks for beside the call. `after_ns` is the delay in nanoseconds; None: as the type says."""

    after_ns: int
    queue: str | None
    priority: int | None


class Planned(NamedTuple):
    """What is known of a schedule that is added. `fires`: how many runs each firing becomes; 0: it is not there."""

    schedule: Any
    """When it fires, in the zone that it was given."""
    overlap: str
    zone: dt.tzinfo
    """The zone of the rig."""
    fires: int = 1
    without_first: bool = False
    """True if its first firing does not come."""


@dataclass(frozen=True)
class WorldChange:
    """What is another in a world. Everything that is left out is as the application says.

    Parameters:

    - `policy`: of a job type's name and policy, the policy that holds.
    - `enqueue`: of a job type's name and what is asked for, what is done.
    - `early`: a job type whose jobs do not wait for the commit of their transaction.
    - `rolled_back_too`: a job type whose jobs come in although their transaction is rolled back.
    - `effect`: the name of an effect; `becomes` says what is done in its place. ``"left out"``: nothing;
      ``"twice"``: it is done two times; ``"forgotten"``: nobody knows that its key was there before; ``"ignored"``: its
      answer does not come back, and neither do its errors.
    - `keeps_rows`: a job type whose rows in an outbox stay as they are when its jobs have ended.
    - `schedule`: of a schedule's name and what is known of it (`Planned`), what holds.
    - `dead`: a job type whose jobs are dropped without a word when they would become dead letters.
    - `no_grace`: True: a shutdown gives running jobs no time.
    """

    policy: Callable[[str, Policy], Policy] | None = None
    enqueue: Callable[[str, Enqueued], Enqueued] | None = None
    early: str = ""
    rolled_back_too: str = ""
    effect: str = ""
    becomes: Becomes | None = None
    schedule: Callable[[str, Planned], Planned] | None = None
    dead: str = ""
    no_grace: bool = False
    keeps_rows: str = ""

    def of_effect(self, name: str) -> Becomes | None:
        """Return what becomes of an effect. None: it is done as always. Parameters: `name` is its name."""
        return self.becomes if name == self.effect else None
