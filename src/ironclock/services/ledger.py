"""A money ledger: postings from one account to another, so that it always balances."""

from __future__ import annotations

import datetime as dt
from typing import Any, NamedTuple

from ..errors import Unbalanced
from ..simulation.effects import Repeated
from .service import Service


class Posting(NamedTuple):
    """One posting of whole units of money."""

    at: dt.datetime
    debit: str
    credit: str
    amount: int
    key: Any


class Ledger(Service):
    """A simulated ledger.

    Parameters:

    - `name`: its name. Default ``"ledger"``.
    - `idempotent`: True: a posting whose key was posted before changes nothing, and returns that posting. Default
      False: the caller must guard against doubles.

    Example::

        ledger = rig.service(ic.services.Ledger())
        ledger.post("fares", "till", 340, key="TL-204")
        assert ledger.balance("till") == 340
    """

    operations = ("post",)

    def __init__(self, name: str = "ledger", *, idempotent: bool = False) -> None:
        super().__init__(name)
        self.idempotent = idempotent
        self.postings: list[Posting] = []
        """Every posting, in order."""

    def post(self, debit: str, credit: str, amount: int, *, key: object = None) -> Posting:
        """Move an amount from the `debit` account to the `credit` account; return the posting.

        Parameters: `amount` is a whole number of units, at least 1; `key` is what the posting is about, for
        `laws.once_per_key` and `idempotent`. Default None: no key.

        Raises `Unbalanced`, `ServiceError`, or the error of a fault.

        Example::

            bank = rig.service(ic.services.Ledger("bank"))
            bank.post("passenger", "fares", 180, key="B-7")
        """
        loop = self.in_rig("post").loop
        if isinstance(amount, bool) or not isinstance(amount, int) or amount <= 0:
            raise Unbalanced(f"the amount is {amount!r}; give a whole number of units, at least 1")
        if debit == credit:
            raise Unbalanced(f"the posting moves {amount} from {debit!r} to the same account; give two accounts")

        def act() -> Posting | Repeated:
            # Now, and not before a slow call: another one can be faster.
            if self.idempotent and key is not None and self._knows_keys("post"):
                for before in self.postings:
                    if before.key == key:
                        return Repeated(before)
            made = Posting(loop.moment, debit, credit, amount, key)
            self.postings.append(made)
            return made

        made: Posting = self._operate("post", act, key, {"debit": debit, "credit": credit, "amount": amount})
        return made

    def redo(self, operation: str, key: object, data: dict[str, Any]) -> Posting:
        """Post for a forked child. Parameters: `operation` is the name of the operation; `key` is what it is about;
        `data` are its arguments."""
        return self.post(data["debit"], data["credit"], data["amount"], key=key)

    def balance(self, account: str) -> int:
        """Return what came into `account`, minus what went out of it.

        Example::

            bank = rig.service(ic.services.Ledger("bank"))
            bank.post("passenger", "fares", 180)
            assert bank.balance("fares") == 180
        """
        came = sum(p.amount for p in self.postings if p.credit == account)
        return came - sum(p.amount for p in self.postings if p.debit == account)
