"""Simulated outside services: mail, an HTTP service, a key-value store, a ledger.

Each has its own faults, and its operations are recorded as effects: ``mail = rig.service(ic.services.Mail())``.
"""

from ..errors import Unbalanced
from .http_service import HttpService, Reply
from .key_value import KeyValue
from .key_value_server import KeyValueServer
from .ledger import Ledger, Posting
from .mail import Letter, Mail
from .service import Service

__all__ = [
    "HttpService",
    "KeyValue",
    "KeyValueServer",
    "Ledger",
    "Letter",
    "Mail",
    "Posting",
    "Reply",
    "Service",
    "Unbalanced",
]
