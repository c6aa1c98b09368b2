"""Laws over what jobs leave behind: before a commit, after a failed request, after they were asked to stop."""

from __future__ import annotations

from .durations import Duration, spell, to_ns
from .history import Entry
from .laws import Breach, Law, World, states
from .shapes import ENDED


@states()
def after_commit() -> Law:
    """Return the law that no worker can see a job before the transaction that it was enqueued in has committed."""

    def after_commit(world: World) -> list[Breach]:
        broken = []
        for number, entry in enumerate(world.entries):
            if entry.what != "before-commit":
                continue
            transaction = entry.data["transaction"]
            proof: list[Entry] = [entry]
            for later in world.entries[number + 1 :]:
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


@states()
def nothing_left_behind() -> Law:
    """Return the law that a request which fails leaves no job and no schedule behind."""

    def nothing_left_behind(world: World) -> list[Breach]:
        broken = []
        for entry in world.entries:
            if entry.what == "request-failed" and (entry.data["jobs"] or entry.data["schedules"]):
                left = ", ".join([*entry.data["jobs"], *(f"the schedule {n}" for n in entry.data["schedules"])])
                broken.append(Breach(f"request {entry.data['request']} failed and left {left} behind", (entry,)))
        return broken

    return nothing_left_behind


@states("slow", "hang")
def stops_when_asked(limit: Duration = 0, *, job: str | None = None) -> Law:
    """Return the law that an attempt which is asked to stop ends by itself at most `limit` later."""
    limit_ns = to_ns(limit, what="limit")

    def stops_when_asked(world: World) -> list[Breach]:
        now = world.entries[-1].ns if world.entries else 0
        names = {life.id for life in world.of(job)}
        broken = []
        for number, entry in enumerate(world.entries):
            if entry.what != "asked-to-stop" or entry.job not in names:
                continue
            end = next(
                (e for e in world.entries[number + 1 :]
                 if e.job == entry.job and e.attempt == entry.attempt and e.what in ENDED),
                None,
            )  # fmt: skip
            killed = end is not None and end.data.get("error") == "WorkerDied"
            until = now if end is None else end.ns
            if killed or until - entry.ns > limit_ns:
                how = "had to be killed" if killed else "ends" if end else "still runs"
                words = (
                    f"attempt {entry.attempt} of {entry.job} {how} {spell(until - entry.ns)} after it was asked to stop"
                )
                broken.append(Breach(words, (entry, end) if end else (entry,)))
        return broken

    return stops_when_asked
