"""Retry storms, advice with costs, and figures that cannot be trusted."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner

import ironclock as ic
from ironclock.cli.main import main
from ironclock.forecasting.workload import CalledService, Outage, QueueLimit, Stream, WorkerPool, Workload
from ironclock.foundation.distributions import spread_of
from ironclock.foundation.durations import NS
from ironclock.scenario.called_services import Breaker

STORM = Path(__file__).parents[2] / "examples" / "scenarios" / "harbour_storm.toml"


def run(*arguments: object) -> tuple[int, str]:
    result = CliRunner().invoke(main, ["forecast", *map(str, arguments)])
    assert result.exception is None or isinstance(result.exception, SystemExit), result.exception
    return result.exit_code, result.output


def changed(tmp_path: Path, *pairs: tuple[str, str]) -> Path:
    text = STORM.read_text(encoding="utf-8")
    for old, new in pairs:
        assert old in text
        text = text.replace(old, new)
    (tmp_path / "s.toml").write_text(text, encoding="utf-8")
    return tmp_path / "s.toml"


def storm(retry: ic.Retry, breaker: Breaker | None = None, outage: bool = True) -> float:
    """Return the share of days with a storm that lasts, of a service that is called three times a second at rest."""
    outages = [Outage(1800, 2400, 1.0, 1.0)] if outage else []
    takes = spread_of({"median": "1s", "p95": "2s"})
    stream = Stream("m", takes, rate=3.5, retry=retry, timeout=4.0, outages=outages, calls="office")
    workload = Workload([stream], [WorkerPool(40)], services={"office": CalledService(8, breaker=breaker)})
    return ic.forecast(workload, span="3h", replications=10).storm


MANY = ic.Retry(10, ic.exponential("5s", factor=1.5, cap="30s", jitter=0.5))


@pytest.mark.exhaustive
def test_a_storm_lasts_and_a_budget_or_a_breaker_ends_it() -> None:
    assert storm(MANY) == 1.0
    assert storm(MANY, outage=False) == 0.0, "at rest the same load is no trouble"
    assert storm(ic.Retry(10, MANY.wait, budget=0.1)) == 0.0
    assert storm(MANY, Breaker(0.5, 40, 20 * NS)) <= 0.2


def test_too_few_workers_are_no_storm() -> None:
    stream = Stream("m", spread_of("2s"), rate=1.2, outages=[Outage(1800, 2400, 1.0, 1.0)])
    assert ic.forecast(Workload([stream], [WorkerPool(2)]), span="3h", replications=10).storm == 0.0


@pytest.mark.exhaustive
@pytest.mark.slow
def test_the_load_at_which_storms_begin(tmp_path: Path) -> None:
    border = ic.storm_load(STORM, span="3h", replications=4)
    assert border.calm is not None
    assert border.storm is not None
    assert 1.0 < border.calm < border.storm < border.calm * 1.06
    code, said = run(STORM, "--storm-load", "--span", "3h", "--replications", "4", "--json")
    assert (code, json.loads(said)["storm"]) == (0, border.storm)
    code, said = run(
        changed(tmp_path, ("attempts = 10,", "attempts = 10, budget = 0.05,")),
        "--storm-load",
        "--span",
        "3h",
        "--replications",
        "2",
    )
    assert said.startswith("no outage leaves a storm that lasts")
    assert "the workers cannot serve" in said


def test_a_storm_is_said(tmp_path: Path) -> None:
    code, said = run(STORM, "--load", "1.3", "--span", "3h", "--replications", "10")
    assert code == 1
    assert "✗ a storm that lasts follows the outage in 100% of the days" in said
    assert "days with a storm that lasts" in said
    code, said = run(STORM, "--span", "3h", "--replications", "10")
    assert code == 0
    assert "storm that lasts" not in said


def test_advice_is_by_cost(tmp_path: Path) -> None:
    code, said = run(STORM, "--load", "1.3", "--advise", "--span", "3h", "--replications", "4", "--json")
    assert code == 0
    found = json.loads(said)
    assert len(found["tried"]) == 8
    assert found["best"]["cost"] == pytest.approx(4.0), "ten workers at 0.4"
    costs = [one["cost"] for one in found["tried"] if one["holds"]]
    assert costs == sorted(costs)
    assert sorted({round(one["cost"], 6) for one in found["tried"]}) == [4.0, 16.0]


TWO_QUEUES = """
    start = "2031-03-29T08:00"
    [workers]
    count = 3
    queues = {{ harbour = 1, desk = 1 }}
    [jobs.submit]
    takes = "10s"
    queue = "harbour"
    [jobs.post]
    takes = "10s"
    queue = "desk"
    [[enqueue]]
    job = "submit"
    count = 300
    [[enqueue]]
    job = "post"
    count = 300
    [forecast.limits]
    age = "20m"
    [forecast.search]
    job = "submit"
    {search}
    [forecast.costs]
    {costs}
"""


def test_advice_over_weights_and_costs_by_queue() -> None:
    text = TWO_QUEUES.format(
        search="weights = [{ harbour = 1, desk = 1 }, { harbour = 9, desk = 1 }]\nworkers = [3, 6]",
        costs="harbour = 2.5\nworker = 1",
    )
    advice = ic.advise(ic.Scenario.loads(text), span="2h", replications=2)
    assert [one.cost for one in advice.tried] == [15.0, 15.0, 7.5, 7.5]
    assert advice.best is not None
    assert "6 workers (harbour" in advice.best.words


@pytest.mark.parametrize(
    ("wait", "search", "words"),
    [
        ('"30s"', 'first = ["10s", "1m"]', ["10s", "1m"]),
        ('{ first = "30s", step = "10s" }', 'first = ["20s"]', ["20s +10s each time"]),
        ('{ first = "30s", step = "10s" }', "factor = [3]", ["30s x3 each time"]),
        ('{ first = "30s", jitter = 0.2 }', 'first = ["20s"]', ["20s, +-20%"]),
        ('{ first = "30s", factor = 2 }', 'first = ["20s"]', ["20s x2 each time"]),
    ],
)
def test_a_wait_keeps_its_form_in_the_search(wait: str, search: str, words: list[str]) -> None:
    text = TWO_QUEUES.format(search=search, costs="worker = 1").replace(
        'queue = "harbour"', f'queue = "harbour"\nretry = {{ attempts = 3, wait = {wait} }}'
    )
    advice = ic.advise(ic.Scenario.loads(text), span="2h", replications=2)
    assert sorted(one.words.partition("waiting ")[2] for one in advice.tried) == sorted(words)


@pytest.mark.parametrize(
    ("search", "costs", "says"),
    [
        ("weights = [{ harbour = 1 }]", "worker = 1", "do not fit the workers of submit: desk has none; give each of their queues one"),
        ("breaker = [{ failing = 0.5 }]", "worker = 1", "submit calls no service; give it 'calls'"),
        ("workers = [1]", "harbor = 1", "no workers serve the queue 'harbor'; did you mean 'harbour'?"),
    ],
)  # fmt: skip
def test_advice_that_cannot_be_given(search: str, costs: str, says: str) -> None:
    with pytest.raises(ic.ScenarioError) as found:
        ic.advise(ic.Scenario.loads(TWO_QUEUES.format(search=search, costs=costs)), span="1h", replications=2)
    assert says in str(found.value)


def test_a_storm_needs_an_outage() -> None:
    with pytest.raises(ic.InputError, match="has no outage after which a storm can begin"):
        ic.storm_load(ic.Scenario.loads(TWO_QUEUES.format(search="workers = [1]", costs="worker = 1")), span="1h")
    stream = Stream("m", spread_of("1s"), calls="ofice")
    with pytest.raises(
        ic.InputError, match="m calls 'ofice', and the workload has no such service; did you mean 'office'"
    ):
        Workload([stream], [WorkerPool(1)], services={"office": CalledService(1)})


# --- figures that cannot be trusted ---------------------------------------------------------------------


def test_cohorts_say_which_waits_they_do_not_see() -> None:
    stream = Stream("m", spread_of("0.2s"), rate=4000.0)
    found = ic.forecast(Workload([stream], [WorkerPool(1000)]), span="2h", replications=4)
    assert len(found.warnings) == 1
    assert "waits shorter than the bin, 1s, are not seen: those of m" in found.warnings[0]
    few = ic.forecast(Workload([Stream("m", spread_of("0.2s"), rate=4.0)], [WorkerPool(1)]), span="2h", replications=4)
    assert few.warnings == ()


@pytest.mark.exhaustive
@pytest.mark.slow
def test_a_workload_that_is_too_large_is_worked_out_smaller() -> None:
    """With a limit, cohorts would leave something out: a smaller workload stands for the large one."""
    stream = Stream("m", spread_of("1s"), bursts=[(60.0, 2_000_000.0)], queue="harbour", expires=200.0)
    workload = Workload([stream], [WorkerPool(1_000)], limits={"harbour": QueueLimit(running=800)})
    found = ic.forecast(workload, span="1h", replications=2)
    assert "1 of 2.0 is, with 1 of 2.0 workers" in found.warnings[0]
    assert found.mean("jobs") == 2_000_000
    assert found.mean("dropped") == pytest.approx(2_000_000 - 800 * 200, rel=0.01)


@pytest.mark.exhaustive
@pytest.mark.slow
def test_compiled_or_not_it_is_the_same_forecast(tmp_path: Path) -> None:
    code = """
import ironclock as ic, sys
found = ic.forecast(sys.argv[1], span="1h30m", replications=2, load=0.2)
print([round(float(v), 9) for name in sorted(found.figures) for v in found.figures[name]])
"""
    said: list[Any] = []
    for plain in ("0", "1"):
        env = {**os.environ, "NUMBA_DISABLE_JIT": plain}
        done = subprocess.run(
            [sys.executable, "-c", code, str(STORM)], env=env, capture_output=True, text=True, check=True
        )
        said.append(done.stdout)
    assert said[0] == said[1]
