"""Who is in the way of a database session: sessions of this process alone, or others as well."""

from __future__ import annotations

from collections.abc import Iterable


def only_ours(session: int, in_the_way: Iterable[tuple[int, int]], ours: set[int]) -> bool:
    """Return True if a session waits for locks that our sessions alone hold, and not in a deadlock.

    A deadlock ends by the real timer of the server. Parameters: `in_the_way` are pairs of a session that waits and one
    that it waits for.
    """
    blockers: dict[int, set[int]] = {}
    for waiting, blocker in in_the_way:
        blockers.setdefault(waiting, set()).add(blocker)
    seen: set[int] = set()
    at = {session}
    while at:
        at = {blocker for one in at for blocker in blockers.get(one, ())}
        if session in at or not at <= ours:
            return False
        at -= seen
        seen |= at
    return bool(seen)
