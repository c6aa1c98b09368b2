"""Signatures of webhooks: HMAC over the body (RFC 2104), with or without a timestamp."""

from __future__ import annotations

import hashlib
import hmac
import time
from collections.abc import Callable, Mapping

from ..errors import InputError
from ..foundation.durations import NS, Duration, to_ns

Check = Callable[[bytes, Mapping[str, str]], str]
"""Gets the body and the headers, with names in small letters; returns why they are refused. Empty: they are not."""


def signed_by(
    secret: str, *, header: str = "X-Signature", prefix: str = "", timestamp: str | None = None,
    tolerance: Duration = "5m",
) -> Check:  # fmt: skip
    """Return the check of a webhook receiver: the body has an HMAC-SHA256 signature, in hexadecimal.

    Parameters:

    - `secret`: the secret, as text.
    - `header`: the header with the signature. Default ``"X-Signature"``.
    - `prefix`: what stands before the signature, such as ``"sha256="``. Default: nothing.
    - `timestamp`: the header with the seconds since 1970. It is signed as well: ``timestamp + "." + body``. Default
      None: no timestamp.
    - `tolerance`: how old the timestamp can be. Default 5 minutes.

    Raises `InputError` or `DurationError`.

    Example::

        hooks = rig.service(ic.services.HttpService("hooks", check=ic.services.signed_by("salt and tar")))
        assert hooks.request("POST", "/", {"seat": 3}).status == 401
    """
    if not isinstance(secret, str) or not secret:
        raise InputError(f"secret is {secret!r}; give text that is not empty")
    limit_s = to_ns(tolerance, what="tolerance") / NS

    def check(body: bytes, headers: Mapping[str, str]) -> str:
        given = headers.get(header.lower(), "")
        signed = body
        if timestamp is not None:
            at = headers.get(timestamp.lower(), "")
            if not at.isdigit():
                return f"the header {timestamp} is {at!r}, and not a number of seconds"
            if abs(time.time() - int(at)) > limit_s:
                return f"the header {timestamp} is {at}, more than {tolerance} from now"
            signed = at.encode() + b"." + body
        wanted = prefix + hmac.new(secret.encode(), signed, hashlib.sha256).hexdigest()
        if not given:
            return f"the header {header} is missing"
        return "" if hmac.compare_digest(given, wanted) else f"the signature in {header} does not fit"

    return check
