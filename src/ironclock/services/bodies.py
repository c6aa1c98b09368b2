"""The bodies of HTTP requests."""

from __future__ import annotations

import json
from typing import Any


def body_of(content: bytes) -> Any:
    """Return a body as JSON if it is that, as text otherwise. None if there is none."""
    if not content:
        return None
    try:
        return json.loads(content)
    except ValueError:
        return content.decode("utf-8", "replace")
