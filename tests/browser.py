"""A headless Chromium, driven over its own pipe (Chrome DevTools Protocol): real clicks, keys and screenshots."""

from __future__ import annotations

import base64
import json
import os
import shutil
import subprocess
import time
from pathlib import Path
from typing import Any

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser")


class Browser:
    """One page in one browser."""

    def __init__(self, folder: Path, dark: bool = False) -> None:
        assert CHROMIUM is not None
        read_theirs, self._write = os.pipe()
        self._read, write_theirs = os.pipe()

        def place() -> None:
            os.dup2(read_theirs, 3)
            os.dup2(write_theirs, 4)

        # The pipe's ends are moved to 3 and 4 in the child, where Chromium looks for them.
        os.set_inheritable(read_theirs, True)
        os.set_inheritable(write_theirs, True)
        self._process = subprocess.Popen(
            [CHROMIUM, "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--window-size=1280,800",
             f"--user-data-dir={folder}", "--remote-debugging-pipe", *(["--force-dark-mode"] if dark else []), "about:blank"],
            preexec_fn=place, close_fds=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        os.close(read_theirs)
        os.close(write_theirs)
        self._number = 0
        self._rest = b""
        self._session: str | None = None
        targets = self.ask("Target.getTargets")["targetInfos"]
        page = next(t["targetId"] for t in targets if t["type"] == "page")
        self._session = self.ask("Target.attachToTarget", targetId=page, flatten=True)["sessionId"]
        self.requests: list[str] = []
        self.ask("Network.enable")
        self.ask("Page.enable")

    def ask(self, method: str, **params: Any) -> Any:
        """Ask something of the browser and wait for the answer."""
        self._number += 1
        message: dict[str, Any] = {"id": self._number, "method": method, "params": params}
        if self._session is not None:
            message["sessionId"] = self._session
        os.write(self._write, json.dumps(message).encode() + b"\0")
        while True:
            found = self._receive()
            if found.get("method") == "Network.requestWillBeSent":
                self.requests.append(found["params"]["request"]["url"])
            if found.get("id") == self._number:
                assert "error" not in found, found["error"]
                return found["result"]

    def _receive(self) -> dict[str, Any]:
        while b"\0" not in self._rest:
            part = os.read(self._read, 1 << 16)
            assert part, "the browser is gone"
            self._rest += part
        message, _, self._rest = self._rest.partition(b"\0")
        return json.loads(message)

    def open(self, page: Path) -> float:
        """Open a page; return how many seconds passed until its script was through."""
        self.requests.clear()
        began = time.perf_counter()
        self.ask("Page.navigate", url=page.as_uri())
        while self.value("document.documentElement?.dataset.ready") != "true":
            assert time.perf_counter() - began < 30, "the page does not get ready"
            time.sleep(0.02)
        return time.perf_counter() - began

    def value(self, expression: str) -> Any:
        """Return what an expression is worth in the page."""
        found = self.ask("Runtime.evaluate", expression=expression, returnByValue=True)
        assert "exceptionDetails" not in found, found["exceptionDetails"]
        return found["result"].get("value")

    def click(self, x: float, y: float) -> None:
        """Move the mouse there and click."""
        for kind in ("mouseMoved", "mousePressed", "mouseReleased"):
            self.ask("Input.dispatchMouseEvent", type=kind, x=x, y=y, button="none" if kind == "mouseMoved" else "left",
                     clickCount=0 if kind == "mouseMoved" else 1)  # fmt: skip

    def move(self, x: float, y: float) -> None:
        """Move the mouse there."""
        self.ask("Input.dispatchMouseEvent", type="mouseMoved", x=x, y=y)

    def press(self, key: str) -> None:
        """Press a key."""
        text = key if len(key) == 1 else "\r" if key == "Enter" else ""
        self.ask("Input.dispatchKeyEvent", type="keyDown", key=key, text=text)
        self.ask("Input.dispatchKeyEvent", type="keyUp", key=key)

    def shot(self, path: Path) -> None:
        """Take a picture of the page."""
        path.write_bytes(base64.b64decode(self.ask("Page.captureScreenshot", format="png")["data"]))

    def close(self) -> None:
        """End the browser."""
        self._process.kill()
        self._process.wait()
        os.close(self._read)
        os.close(self._write)
