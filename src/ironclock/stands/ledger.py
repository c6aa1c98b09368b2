"""A money ledger: postings from one account to another, which always balance."""

from __future__ import annotations

import datetime as dt
from typing import Any, NamedTuple

from ..core.errors import InputError
from .base import Stand


class Unbalanced(InputError):
    """A posting that would move nothing, or move it from an account to itself."""


class Posting(NamedTuple):
    """One posting of whole units of money."""

    at: dt.datetime
    debit: str
    credit: str
    amount: int
    key: Any


class Ledger(Stand):
    """A ledger. `postings` holds what was posted, in order.

    With `idempotent` a posting whose key was posted before changes nothing and gives that posting back: the
    service that guards against doubles. Without it (as here by default) the caller has to.
    """

    operations = ("post",)

    def __init__(self, name: str = "ledger", *, idempotent: bool = False) -> None:
        super().__init__(name)
        self.idempotent = idempotent
        self.postings: list[Posting] = []

    def post(self, debit: str, credit: str, amount: int, *, key: Any = None) -> Posting:
        """Move an amount from the `debit` account to the `credit` account; return the posting.

        Raises `Unbalanced`, `StandError`, or what a fault was given.
        """
        engine = self.in_rig("post")
        if isinstance(amount, bool) or not isinstance(amount, int) or amount <= 0:
            raise Unbalanced(f"the amount is {amount!r}; give whole units, at least 1")
        if debit == credit:
            raise Unbalanced(f"the posting moves {amount} from {debit!r} to itself")
        if self.idempotent and key is not None:
            for before in self.postings:
                if before.key == key:
                    return before

        def act() -> Posting:
            made = Posting(engine.moment, debit, credit, amount, key)
            self.postings.append(made)
            return made

        made: Posting = self._operate("post", act, key, {"debit": debit, "credit": credit, "amount": amount})
        return made

    def redo(self, operation: str, key: Any, data: dict[str, Any]) -> Posting:
        """Post what a forked child asked for."""
        return self.post(data["debit"], data["credit"], data["amount"], key=key)

    def balance(self, account: str) -> int:
        """Return what came into an account less what went out of it."""
        came = sum(p.amount for p in self.postings if p.credit == account)
        return came - sum(p.amount for p in self.postings if p.debit == account)
