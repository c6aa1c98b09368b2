"""Laws about transactions and requests: what they let workers see too early, and what they leave behind."""

from __future__ import annotations

from ..history.entries import Entry
from ..history.records import ENDED
from .law import Breach, Law, World, states


@states
def after_commit() -> Law:
    """Return the law that no worker can see a job before the transaction around its enqueueing has committed.

    Example::

        rig.check(ic.laws.after_commit())
    """

    def after_commit(world: World) -> list[Breach]:
        broken = []
        for number in world.numbers_that("before-commit"):
            entry = world.entry(number)
            transaction = entry.data["transaction"]
            proof: list[Entry] = [entry]
            for later in world.after(number):
                if later.job == entry.job and later.what in ("started", *ENDED):
                    proof.append(later)
                elif later.what in ("committed", "rolled-back") and later.data["transaction"] == transaction:
                    proof.append(later)
                    break
            end = "has committed" if proof[-1].what != "rolled-back" else "is rolled back"
            broken.append(
                Breach(f"{entry.job} can be fetched before transaction {transaction} {end}", tuple(proof[:6]))
            )
        return broken

    return after_commit


@states
def nothing_left_behind() -> Law:
    """Return the law that a request that fails leaves no job and no schedule behind.

    Example::

        rig.check(ic.laws.nothing_left_behind())
    """

    def nothing_left_behind(world: World) -> list[Breach]:
        broken = []
        for entry in world.entries_that("request-failed"):
            if entry.data["jobs"] or entry.data["schedules"]:
                left = ", ".join([*entry.data["jobs"], *(f"the schedule {n}" for n in entry.data["schedules"])])
                broken.append(Breach(f"request {entry.data['request']} failed and left {left} behind", (entry,)))
        return broken

    return nothing_left_behind
