"""The booking desk of the ferry line: fares, letters, and the manifest of each evening."""

from __future__ import annotations

from typing import Any


class Desk:
    """What the jobs of the desk do. Its services are given, so that a test can give simulated ones."""

    def __init__(self, bank: Any, mail: Any, harbour: Any) -> None:
        self.bank, self.mail, self.harbour = bank, mail, harbour
        self.told: set[str] = set()

    def charge_fare(self, booking: str, seats: int = 1) -> None:
        """Charge a fare. The bank knows the booking, and charges it once."""
        self.bank.post("passenger", "fares", 180 * seats, key=booking)

    def confirm(self, booking: str, to: str) -> None:
        """Send a letter, once. What was sent is noted after it was sent."""
        if booking not in self.told:
            self.mail.send(to, f"Booking {booking}", key=booking)
            self.told.add(booking)

    def submit_manifest(self, sailing: str) -> None:
        """Send the manifest of a sailing. To send it again replaces it."""
        reply = self.harbour.request("PUT", f"/manifests/{sailing}", {"passengers": 41})
        if reply.status >= 500:
            raise ConnectionError(f"the harbour office answers {reply.status}")
