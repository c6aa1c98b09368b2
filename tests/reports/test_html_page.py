"""The report as a page: written, escaped, and used in a real browser."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from browser import CHROMIUM, Browser
from click.testing import CliRunner
from ferry_night import night

import ironclock as ic
from ironclock.cli.main import main
from ironclock.laws.law import broken_by
from ironclock.reports.html_page import page

HOSTILE = '</script><script>document.title="taken"</script><img src=x onerror=alert(1)>'
needs_browser = pytest.mark.skipif(CHROMIUM is None, reason="Chromium is not installed")


def data_in(text: str) -> dict[str, Any]:
    found = re.search(r'<script id="data" type="application/json">(.*?)</script>', text, re.DOTALL)
    assert found is not None
    made: dict[str, Any] = json.loads(found[1])
    return made


def test_the_page_holds_every_attempt_and_asks_for_nothing() -> None:
    rig = night()
    text = page(rig.history, "A night")
    data = data_in(text)
    assert len(data["jobs"]["id"]) == len(rig.jobs())
    assert len(data["tries"]["job"]) == sum(len(job.attempts) for job in rig.jobs())
    assert not re.search(r"(src|href)\s*=\s*[\"']?(https?:)?//", text)
    assert "default-src 'none'" in text
    waited = [wait for wait in data["tries"]["wait"] if wait >= 0]
    assert sorted(set(waited)) == [20_000, 40_000]
    assert data["workers"] == ["w1", "w2", "w3"]


def test_hostile_names_stay_text() -> None:
    rig = ic.Rig()
    with rig:
        rig.enqueue(rig.job(lambda x: None, name=HOSTILE, queue=HOSTILE).call(HOSTILE + "\u2028"))
        rig.settle()
    text = page(rig.history, HOSTILE, [(HOSTILE, [ic.laws.Breach(HOSTILE)])])
    assert text.count("<script") == 2
    assert "<img" not in text
    assert data_in(text)["names"] == [HOSTILE]


def test_a_clock_change_in_the_night_is_shown_in_local_time() -> None:
    rig = ic.Rig(start="2031-03-30T00:30", zone="Atlantic/Faroe")
    job = rig.job(lambda: None, name="close_till")
    rig.enqueue(job.call())
    rig.enqueue(job.call(), after="2h")
    rig.run_dry()
    assert data_in(page(rig.history, "x"))["offsets"] == [[0, 0], [30 * 60_000, 3_600_000]]


def test_an_empty_history_has_a_page_too() -> None:
    assert "0 jobs (none), 0 attempts" in page(ic.Rig().history, "Nothing")


def test_show_writes_the_page_and_the_figures(tmp_path: Path) -> None:
    night().history.save(tmp_path / "night.jsonl")
    result = CliRunner().invoke(
        main,
        ["show", str(tmp_path / "night.jsonl"), "--html", str(tmp_path / "n.html"), "--png", str(tmp_path / "figures")],
    )
    assert result.exit_code == 0, result.output
    assert "poll_buoy-1" in (tmp_path / "n.html").read_text(encoding="utf-8")
    assert sorted(p.name for p in (tmp_path / "figures").iterdir()) == [
        "depth.png",
        "hours.png",
        "retries.png",
        "timeline.png",
    ]
    assert all(p.read_bytes()[:4] == b"\x89PNG" for p in (tmp_path / "figures").iterdir())


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Browser]:
    made = Browser(tmp_path_factory.mktemp("chromium"))
    yield made
    made.close()


@pytest.fixture
def shown(browser: Browser, tmp_path: Path) -> Browser:
    rig = night()
    world = ic.laws.World(rig.history)
    laws = [(name, broken_by([law], world)) for name, law in
            (("nothing_lost()", ic.laws.nothing_lost()), ("at most one", ic.laws.attempts_at_most("poll_buoy", 1)))]  # fmt: skip
    (tmp_path / "night.html").write_text(page(rig.history, "A night", laws), encoding="utf-8")
    browser.open(tmp_path / "night.html")
    return browser


def middle_of(browser: Browser, expression: str) -> tuple[float, float]:
    box = browser.value(
        f"(() => {{ const e = {expression}; e.scrollIntoView({{block: 'center'}}); const r = e.getBoundingClientRect();"
        " return [r.x + r.width / 2, r.y + r.height / 2]; })()"
    )
    return box[0], box[1]


def corner_of_the_chart(browser: Browser) -> tuple[float, float]:
    x, y = browser.value(
        "(() => { const c = document.getElementById('chart'); c.scrollIntoView(); const r = c.getBoundingClientRect();"
        " return [r.x, r.y]; })()"
    )
    return x, y


@needs_browser
def test_a_real_click_on_an_attempt_tells_its_job(shown: Browser, tmp_path: Path) -> None:
    assert shown.value("document.getElementById('detail').hidden") is True
    left, top = corner_of_the_chart(shown)
    # The first attempt runs on the first worker from the very start of the chart.
    shown.click(left + 155, top + 64 + 22 + 10)
    assert shown.value("document.getElementById('detail-title').textContent") == "poll_buoy-1(0)"
    assert shown.value("document.getElementById('detail-rows').rows.length") == 3
    assert "ZeroDivisionError" in shown.value("document.getElementById('detail-rows').textContent")
    assert shown.value("document.activeElement.id") == "detail"
    shown.shot(tmp_path / "shot.png")
    assert (tmp_path / "shot.png").stat().st_size > 20_000
    assert shown.requests == [shown.value("location.href")], "the page fetches nothing but itself"


@needs_browser
def test_hovering_tells_about_an_attempt(shown: Browser) -> None:
    left, top = corner_of_the_chart(shown)
    shown.move(left + 155, top + 64 + 22 + 10)
    assert shown.value("document.getElementById('tip').hidden") is False
    assert "attempt 1 on w1: failed" in shown.value("document.getElementById('tip').textContent")


@needs_browser
def test_filters_by_job_queue_and_state(shown: Browser) -> None:
    count = "document.getElementById('count').textContent"
    assert shown.value(count) == "40 of 40 jobs"
    shown.click(*middle_of(shown, "document.querySelector('[data-state=done]')"))
    dead = int(shown.value(count).split()[0])
    assert 0 < dead < 10
    assert shown.value(
        "[...document.querySelectorAll('#job-rows td:nth-child(6)')].every((c) => c.textContent === 'dead')"
    )
    shown.click(*middle_of(shown, "document.querySelector('[data-state=done]')"))
    shown.click(*middle_of(shown, "document.getElementById('search')"))
    for key in "deck":
        shown.press(key)
    assert shown.value(count) == "10 of 40 jobs"
    shown.value(
        "(() => { const q = document.getElementById('queue'); q.value = '0'; q.dispatchEvent(new Event('change', {bubbles: true})); })()"
    )
    assert shown.value(count) == "0 of 40 jobs"


@needs_browser
def test_keys_move_zoom_and_choose(shown: Browser) -> None:
    shown.value("document.getElementById('view').focus()")
    for key in ("+", "+", "ArrowRight", "n", "n"):
        shown.press(key)
    said = shown.value("document.getElementById('live').textContent")
    assert "attempt" in said, "a screen reader is told of what is chosen"
    shown.press("Enter")
    assert shown.value("document.getElementById('detail').hidden") is False
    assert shown.value("document.getElementById('view').getAttribute('aria-label')")


@needs_browser
def test_what_laws_say_is_there(shown: Browser) -> None:
    words = shown.value("document.querySelector('.laws').textContent")
    assert "✓ nothing_lost() holds" in words
    assert "✗ at most one is broken" in words
    assert "poll_buoy-1" in words


@needs_browser
def test_what_proves_a_breach_leads_to_its_attempt(shown: Browser) -> None:
    link = "[...document.querySelectorAll('.laws a[data-job]')].at(-1)"
    job, attempt = (shown.value(f"{link}.dataset.{name}") for name in ("job", "attempt"))
    shown.value(f"{link}.click()")
    assert shown.value("document.getElementById('detail-title').textContent").startswith(f"{job}(")
    assert f"attempt {attempt} " in shown.value("document.getElementById('live').textContent")
    assert shown.value("document.getElementById('detail').hidden") is False
    shown.value("document.getElementById('detail').hidden = true")


@needs_browser
def test_a_depth_of_0_is_a_line_of_text(browser: Browser, tmp_path: Path) -> None:
    rig = ic.Rig()
    rig.workers(9)
    with rig:
        rig.enqueue(rig.job(lambda: None, name="weigh", takes="5s"))
        rig.advance("1m")
    (tmp_path / "calm.html").write_text(page(rig.history, "Calm"), encoding="utf-8")
    browser.open(tmp_path / "calm.html")
    assert browser.value("document.getElementById('calm').hidden") is False
    assert browser.value("document.getElementById('chart').clientHeight") < 100


@needs_browser
def test_it_is_light_and_dark(shown: Browser) -> None:
    def ground(scheme: str) -> str:
        shown.ask("Emulation.setEmulatedMedia", features=[{"name": "prefers-color-scheme", "value": scheme}])
        colour: str = shown.value("getComputedStyle(document.body).backgroundColor")
        return colour

    assert ground("light") == "rgb(251, 250, 247)"
    assert ground("dark") == "rgb(20, 24, 29)"
    ground("light")


@needs_browser
def test_hostile_names_do_nothing_in_a_browser(browser: Browser, tmp_path: Path) -> None:
    rig = ic.Rig()
    with rig:
        rig.enqueue(rig.job(lambda x: None, name=HOSTILE, queue=HOSTILE).call(HOSTILE))
        rig.settle()
    (tmp_path / "h.html").write_text(page(rig.history, "Safe", [(HOSTILE, [])]), encoding="utf-8")
    browser.open(tmp_path / "h.html")
    assert browser.value("document.title") == "Safe"
    assert browser.value("document.querySelectorAll('img').length") == 0
    assert HOSTILE in browser.value("document.getElementById('job-rows').textContent")
