"""The code of the jobs that the ferry line wants to deploy.

    ironclock rehearse examples/rehearsal/friday.csv --with ferry_jobs --setup ferry_jobs:prepare \\
        --fail-at "charge_fare=after charge"
"""

from __future__ import annotations

import ironclock as ic

paid: set[str] = set()


def charge(booking: str) -> None:
    """Ask the bank for the fare. Nothing here tells the bank that it was asked before."""


def submit(sailing: str) -> None:
    """Give the manifest to the harbour office."""


def charge_fare(booking: str) -> str:
    """Charge the fare of a booking."""
    charge(booking)
    paid.add(booking)
    return f"{booking} is paid"


def submit_manifest(sailing: str) -> None:
    """Submit the manifest of a sailing."""
    submit(sailing)


def send_ticket(booking: str) -> None:
    """Send the ticket of a booking."""


def release_hold(booking: str) -> None:
    """Give the seats of a booking free that nobody has paid."""
    paid.discard(booking)


def prepare(rig: ic.Rig) -> None:
    """Let the calls to others be effects of the rig, with what they are about."""
    paid.clear()
    rig.effect("charge", f"{__name__}:charge", key="booking")
    rig.effect("manifest", f"{__name__}:submit", key="sailing")
