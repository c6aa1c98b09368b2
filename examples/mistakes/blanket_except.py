"""A job logs every error and returns; the queue believes that all is well and never tries again.

The fix catches nothing that it cannot deal with.
"""

from __future__ import annotations

import contextlib

import ironclock as ic

LAWS = [ic.laws.nothing_lost("submit_manifest", effect="office.request")]


def _story(rig: ic.Rig, *, swallows: bool) -> None:
    office = rig.service(ic.services.HttpService("office"))
    office.outage(("2031-03-29T21:00", "2031-03-29T21:05"))

    def submit_manifest(sailing: str) -> None:
        with contextlib.suppress(Exception) if swallows else contextlib.nullcontext():
            office.request("PUT", f"/manifests/{sailing}")

    kind = rig.job(submit_manifest, retry=ic.Retry(8, "1m"))
    rig.enqueue(kind.call("TL-204"))
    rig.run_dry()


def bug(rig: ic.Rig) -> None:
    """Swallow whatever comes."""
    _story(rig, swallows=True)


def fix(rig: ic.Rig) -> None:
    """Let it through."""
    _story(rig, swallows=False)
