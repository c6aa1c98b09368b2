"""Stands: small simulated outside services, each with its own faults and a record of its effects.

``mail = rig.stand(ic.stands.Mail())``
"""

from .base import Stand
from .http import HttpService, Reply
from .keyvalue import KeyValue
from .ledger import Ledger, Posting, Unbalanced
from .mail import Letter, Mail

__all__ = ["HttpService", "KeyValue", "Ledger", "Letter", "Mail", "Posting", "Reply", "Stand", "Unbalanced"]
