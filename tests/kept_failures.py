"""What failed tests print, kept in a file and compared: `python tests/kept_failures.py` writes it anew."""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
from pathlib import Path

KEPT = Path(__file__).with_suffix(".txt")


def printed(tests: dict[str, str], application: str) -> str:
    """Return what pytest prints of failing tests, without what differs from run to run. Parameters: bodies by name."""
    source = application + "".join(
        f"\n\ndef test_{re.sub(r'[^a-z0-9]+', '_', name.lower())}(rig):\n    {body}\n" for name, body in tests.items()
    )
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "test_ferry.py").write_text(source, encoding="utf-8")
        ran = subprocess.run(
            [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-p", "no:xdist", "test_ferry.py"],
            cwd=folder, capture_output=True, text=True, check=False, env={"COLUMNS": "100", "PATH": "/bin:/usr/bin"},
        )  # fmt: skip
        text = ran.stdout.replace(folder, "FOLDER").replace(Path(folder).name, "FOLDER")
    text = re.sub(r"0x[0-9a-f]+", "0x...", text)
    text = re.sub(r"\n *[~^]+\n", "\n", text)  # carets under a line: they differ between Python versions
    return re.sub(r" in \d+\.\d+s", "", text)


def write() -> None:
    """Write the file anew."""
    from test_trust import APPLICATION, FAILING

    KEPT.write_text(printed(FAILING, APPLICATION), encoding="utf-8")


if __name__ == "__main__":
    write()
