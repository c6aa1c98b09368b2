"""Scripts of a key-value server that read its clock: what they ask for is written into them before they are sent.

A script is in Lua (https://redis.io/docs/latest/develop/programmability/eval-intro/). Calls of TIME get the rig's time,
and those of TTL and its like what the proxy knows of the keys' expiry, which the server does not have.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

_TIME = re.compile(rb"""redis\s*\.\s*p?call\s*\(\s*(['"])time\1\s*\)""", re.IGNORECASE)
_LEFT = re.compile(rb"""redis\s*\.\s*p?call\s*\(\s*(['"])(p?ttl|p?expiretime)\1\s*,""", re.IGNORECASE)
_OTHER = re.compile(rb"""call\s*\(\s*(?:['"]object['"]|[^'"\s])""", re.IGNORECASE)
_FUNCTIONS = (
    b"local function ironclock_pttl(k) local s = redis.call('PTTL', k) if s ~= -1 then return s end "
    b"return ironclock_left[k] or -1 end "
    b"local function ironclock_ttl(k) local s = ironclock_pttl(k) if s < 0 then return s end "
    b"return math.floor((s + 500) / 1000) end "
    b"local function ironclock_pexpiretime(k) local s = ironclock_pttl(k) if s < 0 then return s end "
    b"return ironclock_now + s end "
    b"local function ironclock_expiretime(k) local s = ironclock_pexpiretime(k) if s < 0 then return s end "
    b"return math.floor((s + 500) / 1000) end "
)


def reads_clock(script: bytes) -> bool:
    """Return True if a script reads the clock in a way that can follow."""
    return _TIME.search(script) is not None or _LEFT.search(script) is not None


def cannot_follow(script: bytes) -> str:
    """Return in words what of a script reads the clock, or can, and cannot follow. Empty: nothing."""
    found = _OTHER.search(script)
    return "" if found is None or b"object" not in found[0].lower() else f"{found[0].decode()}...)"


def with_time(script: bytes, now_us: int, left_ms: Mapping[bytes, int]) -> bytes:
    """Return a script that gets the rig's time.

    Parameters: `now_us` is that in microseconds since 1970. `left_ms` says for keys after how many milliseconds they
    expire.
    """
    seconds, rest = divmod(now_us, 1_000_000)
    text = _TIME.sub(b"{'%d', '%d'}" % (seconds, rest), script)
    if _LEFT.search(text) is None:
        return text
    text = _LEFT.sub(lambda found: b"ironclock_%s(" % found[2].lower(), text)
    table = b", ".join(b"[%s] = %d" % (_quoted(key), ms) for key, ms in left_ms.items())
    head = b"local ironclock_left = {%s} local ironclock_now = %d " % (table, now_us // 1000) + _FUNCTIONS
    if text.startswith(b"#!"):  # its first line says what it may do
        first, _, others = text.partition(b"\n")
        return first + b"\n" + head + others
    return head + text


def _quoted(key: bytes) -> bytes:
    return b'"' + b"".join(b"\\%03d" % byte for byte in key) + b'"'
