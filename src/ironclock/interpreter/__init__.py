"""Where the simulation meets CPython."""

import sys

try:
    import fcntl  # noqa: F401
except ImportError:
    raise ImportError(
        f"a rig needs a POSIX system, such as Linux or macOS, and this one is {sys.platform!r}; use it in a container "
        "or a virtual machine with Linux. Schedules, logs, and the commands when, lint, check and show work here"
    ) from None
