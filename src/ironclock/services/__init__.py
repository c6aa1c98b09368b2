"""Simulated outside services: mail, HTTP and webhooks, a key-value store, an object store, a ledger.

Each has its own faults, and its operations are recorded as effects: ``mail = rig.service(ic.services.Mail())``.
"""

from ..errors import Unbalanced
from .http_service import HttpService, Reply
from .key_value import KeyValue
from .key_value_server import KeyValueServer
from .ledger import Ledger, Posting
from .mail import Letter, Mail
from .mail_server import MailServer, Received
from .object_store import ObjectStore, StoredObject
from .service import Service
from .signatures import signed_by

__all__ = [
    "HttpService", "KeyValue", "KeyValueServer", "Ledger", "Letter", "Mail", "MailServer", "ObjectStore", "Posting",
    "Received", "Reply", "Service", "StoredObject", "Unbalanced", "signed_by",
]  # fmt: skip
