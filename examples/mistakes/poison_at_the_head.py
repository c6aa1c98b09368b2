"""A worker takes the oldest row first, and fails on it; everything behind it waits for ever.

The fix counts the tries of a row, and puts it aside after the third.
"""

from __future__ import annotations

import ironclock as ic

LAWS = [ic.laws.once_per_key("mail.send", due=["offer TL-204", "offer TL-205"])]


def _story(rig: ic.Rig, *, patient: bool) -> None:
    mail = rig.service(ic.services.Mail())
    rows = [{"offer": offer, "tries": 0} for offer in (None, "TL-204", "TL-205")]

    def work_off() -> None:
        while rows:
            row = rows[0]
            if not patient and row["tries"] == 3:
                rows.pop(0)  # put aside, for somebody to look at
                continue
            row["tries"] += 1  # type: ignore[operator]
            mail.send("waiting list", "A seat is free", key="offer " + row["offer"])  # type: ignore[operator]
            rows.pop(0)

    rig.schedule("work-off", rig.job(work_off).call(), ic.every("1m"))
    rig.advance("1h")


def bug(rig: ic.Rig) -> None:
    """Try the head of the queue until it works."""
    _story(rig, patient=True)


def fix(rig: ic.Rig) -> None:
    """Three times."""
    _story(rig, patient=False)
