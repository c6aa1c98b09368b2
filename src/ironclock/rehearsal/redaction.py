"""Redaction: a history without what could be personal. Equal values stay equal."""

from __future__ import annotations

import json
import secrets
from hashlib import blake2b
from typing import Any

from ..foundation.instants import Timeline
from ..history.entries import Entry
from ..history.history import History

_HIDDEN = ("args", "kwargs", "key", "result", "message", "progress")
_KEPT_IN_EFFECTS = ("effect", "outcome")


class Redaction:
    """Puts a code in the place of arguments, keys, results and the words of errors.

    Parameters: `secret` is what the codes follow from. With the same one, equal values have the same code in every
    report. Default None: a new one, so that nobody can find a value by trying.
    """

    def __init__(self, secret: str | None = None) -> None:
        self._secret = (secrets.token_hex(16) if secret is None else secret).encode()[:64]

    def code(self, value: Any) -> str:
        """Return the code of a value."""
        text = json.dumps(value, sort_keys=True, default=repr, ensure_ascii=False)
        return "~" + blake2b(text.encode(), key=self._secret, digest_size=5).hexdigest()

    def history(self, history: History) -> History:
        """Return a history with codes in it."""
        return History.of_entries(history.timeline, [self.entry(entry, history.timeline) for entry in history])

    def entry(self, entry: Entry, timeline: Timeline) -> Entry:
        """Return an entry with codes in it."""
        data = {name: self._value(entry.what, name, value) for name, value in entry.data.items()}
        return Entry(timeline, entry.ns, entry.what, entry.job, entry.name, entry.attempt, data)

    def _value(self, what: str, name: str, value: Any) -> Any:
        if what == "effect" and name in _KEPT_IN_EFFECTS:
            return value
        if (name not in _HIDDEN and what != "effect") or value in (None, "", [], {}):
            return value
        if name == "args" and isinstance(value, list):
            return [self.code(one) for one in value]
        if name == "kwargs" and isinstance(value, dict):
            return {key: self.code(one) for key, one in value.items()}
        return self.code(value)
