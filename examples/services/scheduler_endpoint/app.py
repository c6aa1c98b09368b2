"""An endpoint that a cloud scheduler calls every night: ``POST /tasks/close-till?day=...`` with a secret."""

from __future__ import annotations

import hmac
import json
from collections.abc import Callable, Iterable
from typing import Any

SECRET = "salt and tar"
closed: list[str] = []


def app(environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
    """A WSGI application with one endpoint."""
    body = environ["wsgi.input"].read(int(environ.get("CONTENT_LENGTH") or 0))
    signed = hmac.new(SECRET.encode(), body, "sha256").hexdigest()
    status, answer = "404 Not Found", {}
    if environ["PATH_INFO"] == "/tasks/close-till" and environ["REQUEST_METHOD"] == "POST":
        if not hmac.compare_digest(environ.get("HTTP_X_TASK_SIGNATURE", ""), signed):
            status = "403 Forbidden"
        else:
            day = json.loads(body)["task"]["day"]
            if day not in closed:  # the scheduler can call twice
                closed.append(day)
            status, answer = "200 OK", {"closed": day, "total": len(closed)}
    start_response(status, [("Content-Type", "application/json")])
    return [json.dumps(answer).encode()]
