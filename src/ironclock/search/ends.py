"""The ends of runs: after the story the world goes on without faults, and what it comes to is compared.

The run without a fault is followed first: what is in its databases at each of its seams, at its end, and some time
later. A run with a fault gets that time as well: its retries, leases and locks may need it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import TYPE_CHECKING

from ..interpreter.installation import ending_within
from ..interpreter.patching.clock_functions import REAL
from ..rig import contents_of, held, simulation_of
from .end_states import EndState, Passages, compared, end_state, is_alike
from .plan import LASTING

if TYPE_CHECKING:
    from ..laws.law import Breach
    from ..rig import Rig
    from .plan import Plan
    from .run_control import RunControl

CALM_S = (0, 10, 30, 90, 300, 900, 1_800)
"""How many simulated seconds after the story the ends are compared, one after the other until they are alike."""

_LEAST_CALM_S = 300
_ENOUGH_REAL_S = 1.0  # a busy world is followed no longer once this is used up, and the least calm is over
_MOST_REAL_S = 15.0
_PATIENT_S, _PATIENT_REAL_S, _PATIENT_STEP_S = 3_600, 8.0, 300
# How long a finding is followed before it is told: a lease, or the wait for a retry, can be long.
_LONGER = 5
_MOST_SAMPLES_S = 5.0


class Ends:
    """Compares the ends of the runs of one story.

    Parameters: `is_over` returns True for an error of the story before which all that it does was done. `alike` is True
    if every difference breaks a law, and not only what is gone or stuck.
    """

    def __init__(self, is_over: Callable[[BaseException], bool], alike: bool) -> None:
        self._is_over = is_over
        self._alike = alike
        self._plain: list[EndState] = []
        self._took_s: list[float] = []
        self._passages = Passages()
        self.is_patient = False
        """True if what is found wrong is looked at once more, much later."""

    @property
    def are_known(self) -> bool:
        """True if the run without a fault has had something in a database that others can be compared with."""
        return len(self._plain) > 1 and self._passages.has_data

    def watch(self, rig: Rig) -> Callable[[], None]:
        """Return what notes, at a seam, what is in the databases of a rig: of the run without a fault."""
        took_s, seen = 0.0, -1

        def note() -> None:
            nonlocal took_s, seen
            now = simulation_of(rig).loop.requests
            if now != seen and took_s < _MOST_SAMPLES_S:
                seen, began = now, REAL["monotonic"]()
                with contextlib.suppress(OSError):  # somebody writes just now
                    self._passages.note(_state(rig))
                took_s += REAL["monotonic"]() - began

        return note

    def learn(self, rig: Rig, control: RunControl) -> None:
        """Follow the run without a fault, which has come to its end, for some time."""
        control.calm()
        self._plain, self._took_s = [], []
        began, last = REAL["monotonic"](), 0
        with contextlib.suppress(Exception), held(rig):  # a world that has ended shows no more
            for calm_s in CALM_S:
                with ending_within(_MOST_REAL_S):
                    rig.advance(float(calm_s - last))
                state = _state(rig)
                self._passages.note(state)
                if not self._passages.has_data:
                    return  # it uses no database: what its jobs come to is the matter of the laws
                self._plain.append(state)
                self._took_s.append(REAL["monotonic"]() - began)
                last = calm_s
                if calm_s >= _LEAST_CALM_S and self._took_s[-1] > _ENOUGH_REAL_S:
                    break

    def breaches(self, rig: Rig, control: RunControl, plan: Plan, ended: BaseException | None) -> list[Breach]:
        """Return what is wrong with the end of a run with one fault. Nothing if its story was not played to its end."""
        control.calm()
        return self.after_replay(rig, plan, ended)

    def after_replay(self, rig: Rig, plan: Plan, ended: BaseException | None) -> list[Breach]:
        """Return what is wrong with the end of a run in which no fault can strike any more."""
        if not self.are_known or len(plan.moves) != 1 or plan.kinds & LASTING:
            return []
        if ended is not None and not self._is_over(ended):
            return []
        last, state, plain = 0, None, None
        try:
            with held(rig):
                for calm_s, plain, took_s in zip(CALM_S, self._plain, self._took_s, strict=False):
                    with ending_within(1 + _LONGER * took_s):
                        rig.advance(float(calm_s - last))
                    state, last = _state(rig), calm_s
                    if is_alike(plain, state):
                        return []
                if self.is_patient and plain is not None:
                    state = self._much_later(rig, plain, state)
        except Exception:  # its world has ended, with an error or with a time limit: nobody can say what it comes to
            return []
        if state is None or plain is None or last < _LEAST_CALM_S:
            return []
        return compared(plain, self._passages, state, self._alike)

    def _much_later(self, rig: Rig, plain: EndState, state: EndState | None) -> EndState | None:
        """Let more time pass, and return the end with what has come right since then put right in it."""
        began = REAL["monotonic"]()
        passed = 0
        while state is not None and passed < _PATIENT_S and REAL["monotonic"]() - began < _PATIENT_REAL_S:
            with ending_within(_PATIENT_REAL_S):
                rig.advance(float(_PATIENT_STEP_S))
            passed += _PATIENT_STEP_S
            now = _state(rig)
            more, same = state.there - plain.there, plain.there & (state.there | now.there)
            state = EndState(more & now.there | same, now.later)
        return state


def _state(rig: Rig) -> EndState:
    simulation = simulation_of(rig)
    return end_state(contents_of(rig), simulation.effects, simulation.loop.now)
