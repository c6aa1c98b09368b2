"""A job collects its lines in a list that belongs to the class; the next job finds those of the one before.

The fix makes the list for each run.
"""

from __future__ import annotations

import ironclock as ic

LAWS = [ic.laws.each("mail.send", "a bill has three lines of its own", lambda sent: sent["body"].count(";") == 2)]


def _story(rig: ic.Rig, *, shared: bool) -> None:
    mail = rig.service(ic.services.Mail())

    class Bill:
        lines: list[str] = []

        def __init__(self) -> None:
            if not shared:
                self.lines = []

        def send(self, passenger: str) -> None:
            self.lines += [f"{passenger}: {item}" for item in ("fare", "cabin", "car")]
            mail.send(passenger, "Your bill", "; ".join(self.lines))

    kind = rig.job(lambda passenger: Bill().send(passenger), name="send_bill")
    for passenger in ("ina", "jogvan"):
        rig.enqueue(kind.call(passenger))
    rig.run_dry()


def bug(rig: ic.Rig) -> None:
    """One list for all."""
    _story(rig, shared=True)


def fix(rig: ic.Rig) -> None:
    """A list for each."""
    _story(rig, shared=False)
