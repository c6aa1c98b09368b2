"""Fault coverage: which failures a suite has put where, from its own runs and from a search."""

from __future__ import annotations

import json
import re
from html.parser import HTMLParser
from typing import Any

import pytest

FLEET = """
    import pytest
    import ironclock as ic

    def world(rig, **policy):
        mail = rig.service(ic.services.Mail())
        def tell(who):
            mail.send(who, "Your seat")
        return mail, rig.job(tell, retry=ic.Retry(attempts=5, wait="1m"), **policy)

    def test_nothing_goes_wrong(rig):
        mail, tell = world(rig)
        rig.enqueue(tell.call("ada")); rig.enqueue(tell.call("bo")); rig.run_dry()
"""

PUT = {
    "job fails before": ("tell", 'rig.faults.fail("tell", attempts=1)'),
    "job fails after": ("tell", 'rig.faults.fail("tell", attempts=1, at="after mail.send")'),
    "job worker dies": ("tell", 'rig.faults.crash("tell", attempts=1)'),
    "job late": ("tell", 'rig.faults.slow("tell", by="5m")'),
    "job twice": ("tell", 'rig.faults.deliver_twice("tell", attempts=1)'),
    "job out of order": ("tell", 'rig.faults.delay("tell", by="5m", attempts=1)'),
    "job outage": ("tell", 'rig.faults.outage(("2031-03-03T09:00", "2031-03-03T09:10"))'),
    "job clock change": ("tell", 'rig.faults.jump_clock("1h", at="2031-03-03T09:00:30")'),
    "effect fails before": ("mail.send", "mail.fail(calls=1)"),
    "effect fails after": ("mail.send", "mail.lose_response(calls=1)"),
    "effect worker dies": ("mail.send", 'rig.faults.crash("tell", at="before mail.send", attempts=1)'),
    "effect late": ("mail.send", 'mail.slow("10s")'),
    "effect twice": ("mail.send", 'rig.faults.fail("tell", attempts=1, at="after mail.send")'),
    "effect outage": ("mail.send", 'mail.outage(("2031-03-03T09:00", "2031-03-03T09:05"))'),
}


def read(pytester: pytest.Pytester, *options: str) -> dict[str, Any]:
    """The fault coverage of a run, by row and failure."""
    pytester.runpytest("--ironclock-seams-json", "coverage.json", *options)
    held = json.loads((pytester.path / "coverage.json").read_text())
    assert held["format"] == "ironclock fault coverage"
    return {
        f"{row['kind']} {row['name']}": {failure: known["state"] for failure, known in row["failures"].items()}
        for row in held["rows"]
    } | {"all": held}


def test_a_suite_in_which_nothing_goes_wrong(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(FLEET)
    held = read(pytester)
    assert set(held["job tell"].values()) == set(held["effect mail.send"].values()) == {"untried"}
    assert (held["all"]["covered"], held["all"]["fitting"], held["all"]["percent"]) == (0, 13, 0.0)


@pytest.mark.parametrize("what", PUT)
def test_each_failure_that_a_test_puts_somewhere_is_seen_there(pytester: pytest.Pytester, what: str) -> None:
    name, fault = PUT[what]
    kind, _, failure = what.partition(" ")
    is_delay = "delay" in fault
    pytester.makepyfile(
        FLEET
        + f"""
    @pytest.mark.rig(allow=["dead jobs", "idle faults"])
    def test_it(rig):
        mail, tell = world(rig, lease="30m")
        {fault if not is_delay else 'rig.faults.delay("tell", by="5m", when=lambda job: job.args == ("ada",))'}
        for who in ("ada", "bo"):
            try:
                rig.enqueue(tell.call(who), after="1m")
            except ic.EnqueueRefused:
                rig.advance("10m")
        rig.run_dry()
    """
    )
    held = read(pytester)
    assert held[f"{kind} {name}"][failure] == "tested", held
    tests = {
        test
        for row in held["all"]["rows"]
        for known in row["failures"].values()
        for test in known.get("tests", ())
    }  # fmt: skip
    assert {test.rpartition("::")[2] for test in tests} == {"test_it"}


def test_clock_changes_of_a_zone_and_schedules(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import pytest
        @pytest.mark.rig(start="2031-03-29T21:00", zone="Atlantic/Faroe")
        def test_it(rig):
            def close_till(): pass
            rig.schedule("close-till", close_till, "30 1 * * *")
            rig.enqueue(close_till, after="12h")
            rig.advance("1d")
        """
    )
    held = read(pytester)
    assert held["schedule close-till"] == {"clock change": "tested", "late": "untried"}
    assert held["job close_till"]["clock change"] == "tested"


def test_the_table_and_the_least_share(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(FLEET)
    enough = pytester.runpytest("--ironclock-seams", "--ironclock-seams-min", "0")
    assert enough.ret == pytest.ExitCode.OK
    enough.stdout.fnmatch_lines(
        [
            "*fault coverage*",
            " * before  after   dies   late  twice  order outage  clock",
            "jobs",
            "  tell  *.      .      .      .      .      .      .      -",
            "effects",
            "  mail.send  *.      .      .      .      .      -      .      -",
            "0 of 13 failures were put there: 0.0 %",
        ]
    )
    result = pytester.runpytest("--ironclock-seams-min", "80")
    assert result.ret == pytest.ExitCode.TESTS_FAILED
    result.stdout.fnmatch_lines(["the fault coverage is 0.0 %, below --ironclock-seams-min 80"])


def test_a_search_tells_survived_broken_and_untried_apart(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(FLEET)
    held = read(pytester, "--ironclock-search")
    assert held["effect mail.send"] == {
        "fails before": "survived", "fails after": "broken", "worker dies": "broken", "late": "survived",
        "twice": "broken", "outage": "survived",
    }  # fmt: skip
    assert held["job tell"]["twice"] == "broken"
    assert held["job tell"]["fails before"] == "survived"
    assert held["job tell"]["outage"] == "untried"
    kept = read(pytester, "--ironclock-search")
    assert kept == held  # from what was kept


class _Page(HTMLParser):
    """The cells of the table of a page, and whether every element is closed."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.cells: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "br"):
            self.open.append(tag)
        if tag == "td":
            self.cells.append(str(dict(attrs)["class"]))

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag


def test_the_page(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        FLEET.replace("def tell(who)", "def tell_all(who)").replace("rig.job(tell,", 'rig.job(tell_all, name="<b>&",')
    )
    result = pytester.runpytest("--ironclock-search", "--ironclock-seams-page", "coverage.html")
    result.stdout.fnmatch_lines(["the fault coverage is in coverage.html"])
    text = (pytester.path / "coverage.html").read_text()
    page = _Page()
    page.feed(text)
    assert page.open == []
    assert len(page.cells) == 16
    assert {"survived", "broken", "untried", "none"} == set(page.cells)
    assert "&lt;b&gt;&amp;" in text
    assert "<b>" not in text
    assert re.search(r"\d+ of 13 failures were put somewhere by the suite or by the search: [\d.]+ %", text)
    failed = pytester.runpytest("--ironclock-seams-page", "nowhere/coverage.html")
    assert failed.ret == pytest.ExitCode.TESTS_FAILED
    failed.stdout.fnmatch_lines(["the fault coverage cannot be written to nowhere/coverage.html: No such file *"])
