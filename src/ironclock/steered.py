"""A rig that is steered: what the probe, and a replay token, do with it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar, cast

from .core.engine import Engine
from .core.errors import RigStateError
from .core.pilot import Pilot
from .core.timeline import Timeline
from .host.clock import steer_here
from .host.readers import Readers
from .host.strands import Strands
from .setting import Setting

if TYPE_CHECKING:
    from .steering.replay import Replay

PilotType = TypeVar("PilotType", bound=Pilot)


class Steered(Setting):
    """The part of a rig that lets a pilot in, and takes itself apart after a run of a search."""

    _forks: Any
    _loops: Any
    _readers: Readers | None
    _replay: Replay | None
    _timeline: Timeline

    def steer(self, pilot: Callable[[Engine], PilotType]) -> PilotType:
        """Let a pilot decide where this world could go another way; return it. What the probe does with its rigs."""
        if self._engine.history or self._engine.jobs:
            raise RigStateError("this rig's story has begun; steer it, or replay a token, before its first job")
        made = pilot(self._engine)
        self._engine.pilot = made
        if made.switching:
            self._engine.chooser = made
        self._threads.watch_locks()
        if self._thread is not None:  # the fixture's rig is entered before its test begins
            steer_here()
        self._engine.rearm()
        return made

    def replay(self, token: str) -> None:
        """Make this rig's run go as a replay token says: with its faults, its order, its start.

        Call it before the story begins, on a rig with the arguments that the search had. Leaving the rig, or
        `check`, raises `ReplayError` where the story never came to a place that the token names; a token that is none
        raises `InputError`.
        """
        from .steering.replay import Replay
        from .steering.token import read

        held = read(token)
        replay = Replay(held, self._engine)
        self.steer(lambda engine: replay.steering)
        if held.plan.start is not None:
            self._engine.begin_at(self._timeline.ns(held.plan.start))
        self._replay = replay
        if self._thread is not None:
            replay.enter()

    def note(self, text: str) -> None:
        """Write a line of the test's own into the history, at this instant."""
        self._engine.record("note", detail=str(text))

    def _release(self) -> None:
        """Let go of whoever waits for this rig, and of what it holds of the system."""
        self._threads.let_go()
        if self._loops is not None:
            self._loops.close()
        if self._forks is not None:
            self._forks.reap()

    def let_go(self) -> None:
        """Take the rig apart, so that nothing of it waits for the garbage collector; it is of no more use then, nor is
        anything that came from it. What was suspended ends without a handler run."""
        cast(Strands, self._engine.carrier).bury_all()
        self._threads.free_locks()
        self._release()
        self._threads.forget()
        engine = self._engine
        parts = (
            engine.delivery, engine.controls, engine.stopping, engine.admission, engine.effects, engine.transactions,
            engine.requests, engine.memory, engine.faults, engine.history, engine.carrier, self._threads, self._intake,
            self._signals, self.schedules, *self._stands.values(),
        )  # fmt: skip
        for pool in engine.pools:
            pool.queues.clear()
        for part in (*parts, self._readers, engine):
            if part is not None:
                vars(part).clear()
