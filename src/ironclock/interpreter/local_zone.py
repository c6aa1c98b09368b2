"""The application's own time zone."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from ..errors import ZoneError

_SYSTEM = Path("/etc/localtime")  # a link into the tz database (https://man7.org/linux/man-pages/man5/localtime.5.html)


def local_zone() -> str:
    """Return the name of the application's time zone: of Django's settings, of the variable TZ, or of the system.

    Raises `ZoneError` if none of them has a name.
    """
    conf = sys.modules.get("django.conf")
    if conf is not None and conf.settings.configured:
        return str(conf.settings.TIME_ZONE)
    name = os.environ.get("TZ", "").removeprefix(":")
    if name:
        return name
    path = str(_SYSTEM.resolve())
    _, found, name = path.partition("zoneinfo/")
    if found:
        return name
    if not _SYSTEM.exists():
        return "UTC"
    raise ZoneError(f"zone is 'local', and {_SYSTEM} has no name of a time zone; set TZ, or give a name")
