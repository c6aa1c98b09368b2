"""The services that Tern Line talks to, as they stand in its training room: in memory, with their moods."""

from __future__ import annotations

import time


class CardRefused(Exception):
    """The bank says no, and will say no again."""


class ManifestRefused(Exception):
    """The harbour office found the manifest wrong."""


class CardGateway:
    """Takes money. A key that was charged before is not charged again."""

    def __init__(self) -> None:
        self.charges: list[tuple[str, int]] = []
        self._receipts: dict[str, str] = {}

    def charge(self, card: str, amount: int, key: str) -> str:
        """Charge a card, once for each key, and return the receipt's number."""
        if card == "card-refused":
            raise CardRefused(f"{card} was refused")
        if key in self._receipts:
            return self._receipts[key]
        self.charges.append((card, amount))
        self._receipts[key] = f"R{len(self.charges):04d}"
        if card == "card-slow":
            time.sleep(45)  # the money is taken, the answer is late
        else:
            time.sleep(0.4)
        return self._receipts[key]


class HarbourOffice:
    """Wants a list of everybody on board before a ship leaves."""

    def __init__(self) -> None:
        self.manifests: dict[str, list[str]] = {}

    def submit(self, sailing: str, names: list[str]) -> None:
        """Hand a manifest in."""
        if not names:
            raise ManifestRefused(f"the manifest of {sailing} is empty")
        time.sleep(2)
        self.manifests[sailing] = names


cards = CardGateway()
office = HarbourOffice()


def reopen() -> None:
    """Start with empty books."""
    global cards, office
    cards, office = CardGateway(), HarbourOffice()
