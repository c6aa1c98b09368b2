"""Forecasts: against closed forms, against the exact engine, and as a user asks for them."""

from __future__ import annotations

import json
import math
from functools import partial
from pathlib import Path

import exact
import numpy as np
import pytest
from click.testing import CliRunner
from exact import KEPT, compare
from workloads import SCENARIOS, WORKLOADS

import ironclock as ic
from ironclock.cli.main import main
from ironclock.forecasting.service_time import service
from ironclock.forecasting.workload import Firings, QueueLimit, Stream, WorkerPool, Workload
from ironclock.foundation.distributions import Spread, spread_of

exhaustive = partial(pytest.param, marks=pytest.mark.exhaustive)
DAY = Path(__file__).parents[2] / "examples" / "scenarios" / "manifest_day.toml"


def erlang_c(workers: int, load: float) -> float:
    """Return the chance of having to wait in the M/M/c queue. Source: A. K. Erlang, 1917."""
    last = load**workers / math.factorial(workers) * workers / (workers - load)
    return last / (sum(load**n / math.factorial(n) for n in range(workers)) + last)


@pytest.mark.exhaustive
@pytest.mark.parametrize(("workers", "busy"), [(1, 0.7), (3, 0.8), (8, 0.85)])
def test_the_wait_of_the_m_m_c_queue(workers: int, busy: float) -> None:
    mean = 30.0  # bins: the model's bins are short beside the service
    rate = busy * workers / mean
    wanted = erlang_c(workers, busy * workers) * mean / (workers * (1 - busy))
    stream = Stream("poll_buoy", spread_of({"mean": "30s"}), rate=rate)
    found = ic.forecast(Workload([stream], [WorkerPool(workers)]), span="40h", bin="1s", replications=100, seed=3)
    assert found.mean("busy") == pytest.approx(busy, rel=0.01)
    assert found.mean("wait_mean") == pytest.approx(wanted, rel=0.04)


@pytest.mark.parametrize(
    ("takes", "spread"),
    [
        exhaustive("20s", 0.0), ({"from": "10s", "to": "30s"}, 1 / 12),
        exhaustive({"median": "10s", "p95": "30s"}, 0.5622), exhaustive({"median": "10s", "p95": "60s"}, 2.275),
    ],
)  # fmt: skip
def test_the_wait_of_the_m_g_1_queue(takes: object, spread: float) -> None:
    """Source: F. Pollaczek, 1930, and A. Khinchine, 1932: rho m (1 + c^2) / 2 (1 - rho)."""
    service_time = spread_of(takes)  # type: ignore[arg-type]
    mean, busy = service_time.mean_ns / 1e9, 0.7
    wanted = busy * mean * (1 + spread) / (2 * (1 - busy))
    stream = Stream("poll_buoy", service_time, rate=busy / mean)
    found = ic.forecast(Workload([stream], [WorkerPool(1)]), span="25h", bin="1s", replications=100, seed=2)
    assert found.mean("wait_mean") == pytest.approx(wanted, rel=0.06)


@pytest.mark.parametrize("fails", [0.1, exhaustive(0.5)])
def test_attempts_are_geometric(fails: float) -> None:
    retry = ic.Retry(attempts=6, wait=ic.exponential("10s", jitter="full"))
    stream = Stream("charge_fare", spread_of("0.1s"), rate=1.0, fails=fails, retry=retry)
    found = ic.forecast(Workload([stream], [WorkerPool(20)]), span="6h", bin="1s", replications=60)
    assert found.mean("attempts") == pytest.approx((1 - fails**6) / (1 - fails), rel=0.01)
    jobs = found.mean("jobs")
    dead = found.figures["dead"]
    assert dead.mean() == pytest.approx(jobs * fails**6, rel=0.1, abs=0.1)
    if fails == 0.5:  # as spread as the binomial distribution, too
        assert dead.std() == pytest.approx(math.sqrt(jobs * fails**6 * (1 - fails**6)), rel=0.3)


@pytest.mark.parametrize("many", [exhaustive(1), 400])
def test_service_keeps_mean_and_variance(many: int) -> None:
    for mean, deviation in ((8.0, 8.0), (8.0, 3.0), (8.0, 0.0), (8.0, 14.0)):
        columns, start = 2000, 500
        serving = service(mean, deviation, many * 200, columns, np.random.Generator(np.random.SFC64(1)))
        ends = np.zeros(start)
        serving.draw(start)
        busy = np.full(columns, float(many))
        serving.start(0, busy)
        for row in range(1, start):
            left = serving.end(row)
            ends[row] = busy.mean() - left.mean()
            busy = left.copy()
        at = np.arange(start)
        middle = (ends * at).sum() / ends.sum()
        assert middle == pytest.approx(mean, rel=0.05), (mean, deviation)
        if many == 1:
            spread = math.sqrt((ends * (at - middle) ** 2).sum() / ends.sum())
            assert spread == pytest.approx(deviation, rel=0.25, abs=0.9), (mean, deviation)


RETRY = ic.Retry(attempts=5, wait=ic.exponential("30s", cap="5m", jitter=0.1))


def mean_wait(streams: list[Stream], workers: int, span: str = "60h") -> float:
    found = ic.forecast(Workload(streams, [WorkerPool(workers)]), span=span, replications=60, seed=5)
    return found.mean("wait_mean")


@pytest.mark.parametrize("mean", [exhaustive(0.05), exhaustive(0.3), 1.0, exhaustive(7.0)])
def test_waits_shorter_than_a_bin_are_seen(mean: float) -> None:
    """The M/M/1 queue: the mean wait is rho / (1 - rho) times the service."""
    stream = Stream("poll_buoy", spread_of({"mean": f"{mean}s"}), rate=0.75 / mean)
    found = ic.forecast(Workload([stream], [WorkerPool(1)]), span=f"{40_000 * mean}s", replications=60)
    assert found.mean("wait_mean") == pytest.approx(3 * mean, rel=0.02)


@pytest.mark.exhaustive
@pytest.mark.slow
def test_long_and_short_jobs_in_one_queue() -> None:
    """Source: F. Pollaczek and A. Khinchine: lambda E[S^2] / 2 (1 - rho), whatever the durations are."""
    long, short = Stream("long", spread_of("2m"), rate=0.004), Stream("short", spread_of("1s"), rate=0.2)
    busy = 0.004 * 120 + 0.2
    wanted = (0.004 * 120**2 + 0.2) / (2 * (1 - busy))
    assert mean_wait([long, short], 1, "300h") == pytest.approx(wanted, rel=0.02)


@pytest.mark.exhaustive
@pytest.mark.slow
def test_priorities_within_a_queue() -> None:
    """Source: A. Cobham, Priority Assignment in Waiting Line Problems, 1954: W0 / ((1 - s_before) (1 - s_until))."""
    urgent = Stream("urgent", spread_of({"mean": "2s"}), rate=0.15, priority=1)
    usual = Stream("usual", spread_of({"mean": "2s"}), rate=0.25, priority=2)
    both = 0.3 + 0.5
    left = 0.4 * 2 * 4 / 2  # the mean work that is left of the job in service
    waits = left / (1 - 0.3), left / ((1 - 0.3) * (1 - both))
    wanted = (0.15 * waits[0] + 0.25 * waits[1]) / 0.4
    assert mean_wait([urgent, usual], 1, "30h") == pytest.approx(wanted, rel=0.02)
    # A strict order between two queues is the same thing.
    queues = [Stream("urgent", urgent.takes, rate=0.15, queue="a"), Stream("usual", usual.takes, rate=0.25, queue="b")]
    found = ic.forecast(Workload(queues, [WorkerPool(1, ["a", "b"])]), span="30h", replications=60)
    assert found.mean("wait_mean") == pytest.approx(wanted, rel=0.02)


def test_jobs_that_expire() -> None:
    burst = Stream("m", spread_of("1s"), bursts=[(600.0, 1000.0)], expires=30.0)
    away = WorkerPool(1, None, [(500.0, 599.0)])
    found = ic.forecast(Workload([burst], [away]), span="1h", replications=2)
    # One starts each second until the thirtieth is over, and all others are dropped at once.
    assert found.mean("dropped") == 1000 - 30 == found.quantile("dropped", 0.05)
    assert found.mean("age_peak") == 30.0
    assert found.mean("recovery") == pytest.approx(31.0, abs=1.0)


def test_limits_of_queues() -> None:
    burst = Stream("m", spread_of("3s"), bursts=[(0.0, 60.0)], queue="harbour")
    for limit, wanted in ((QueueLimit(running=2), 60 / 2 * 3 - 3), (QueueLimit(rate=(5, 60.0)), 11 * 60.0)):
        workload = Workload([burst], [WorkerPool(10)], limits={"harbour": limit})
        found = ic.forecast(workload, span="1h", replications=2)
        assert found.mean("age_peak") == wanted, "when the last one starts"


def test_a_schedule_whose_runs_do_not_overlap() -> None:
    times = [60.0 * n for n in range(1, 11)]
    for overlap, jobs in (("allow", 10), ("skip", 4), ("wait", 10)):
        stream = Stream("tally", spread_of("150s"), firings=[Firings(times, overlap)])  # type: ignore[arg-type]
        found = ic.forecast(Workload([stream], [WorkerPool(9)]), span="1h", replications=2)
        assert found.mean("jobs") == jobs, overlap
        assert found.mean("busy") == pytest.approx(jobs * 150 / 9 / 3600)


def test_a_retry_budget() -> None:
    retry = ic.Retry(attempts=50, wait="1s", budget=0.1)
    stream = Stream("m", spread_of("0.1s"), rate=1.0, fails=1.0, retry=retry)
    found = ic.forecast(Workload([stream], [WorkerPool(5)]), span="2h", replications=40)
    assert found.mean("attempts") == pytest.approx(1.1, abs=0.01), "a tenth of the first attempts, and ten more"


@pytest.mark.parametrize(
    "name",
    [exhaustive(name) if number % 20 != 7 else name for number, name in enumerate(sorted(WORKLOADS | SCENARIOS))],
)
def test_it_agrees_with_the_exact_engine(name: str) -> None:
    """Means within 2 %, 5 and 95 % quantiles within 5 %, and what the exact runs leave in doubt on top."""
    compared, _, words = compare(name)
    assert compared >= 12
    assert not words


@pytest.mark.parametrize(
    "name",
    [exhaustive(name) if number % 20 != 7 else name for number, name in enumerate(sorted(WORKLOADS | SCENARIOS))],
)
def test_the_figures_that_are_kept_are_those_of_the_exact_engine(name: str) -> None:
    kept = json.loads(KEPT.read_text())[name]
    assert kept["runs"] >= 100
    assert exact.figures_of(name, 0) == pytest.approx(kept["first"])


def test_there_are_as_many_plants_as_are_kept() -> None:
    assert set(json.loads(KEPT.read_text())) == {*WORKLOADS, *SCENARIOS}
    assert len({*WORKLOADS, *SCENARIOS}) >= 30


def test_its_cost_does_not_follow_the_number_of_jobs() -> None:
    """Not timed here: the arrays that it goes through are as long for ten million jobs an hour as for a thousand."""
    from ironclock.forecasting.worker_pool import PoolLoop

    sizes = []
    for rate, workers in ((1_000 / 3600, 3), (10_000_000 / 3600, 30_000)):
        stream = Stream("m", spread_of({"median": "2s", "p95": "9s"}), rate=rate, fails=0.02, retry=RETRY)
        traces = PoolLoop([stream], WorkerPool(workers), 3600, 1.0, 20, [1]).run()
        sizes.append({name: np.shape(value) for name, value in vars(traces).items()})
        assert traces.arrived.sum(axis=0).mean() == pytest.approx(rate * 3600, rel=0.05)
    assert sizes[0] == sizes[1]


def test_the_same_seed_gives_the_same_forecast_whoever_works_it_out() -> None:
    stream = Stream("m", spread_of("2s"), rate=0.3, fails=0.1, retry=RETRY)
    workload = Workload([stream], [WorkerPool(2)])
    first, second, other = (
        ic.forecast(workload, span="1h", bin="1s", replications=150, seed=seed).figures["retries"] for seed in (1, 1, 2)
    )
    assert (first == second).all()
    assert (first != other).any()


def test_workers_that_are_away_leave_a_backlog() -> None:
    workload = Workload([Stream("m", spread_of("2s"), rate=0.5)], [WorkerPool(2, None, [(600.0, 1200.0)])])
    found = ic.forecast(workload, span="1h", bin="1s", replications=20)
    assert found.mean("backlog_peak") == pytest.approx(300, rel=0.1)
    assert found.mean("age_peak") == pytest.approx(600, rel=0.05)
    assert found.mean("recovery") == pytest.approx(600, rel=0.2)


def test_a_scenario_and_its_limits() -> None:
    found = ic.forecast(DAY, span="2h", bin="5s", replications=20)
    assert 260 < found.quantile("backlog_peak", 0.5) <= 310, "those of midnight, less what is begun in the first bin"
    assert [row["figure"] for row in found.rows()][:2] == ["jobs", "backlog_peak"]
    assert "recovery" not in found.figures, "nothing is down within two hours"
    assert found.frame().loc["jobs", "mean"] > 350
    with pytest.raises(ic.InputError, match="did you mean 'backlog_peak'"):
        found.mean("backlog_pek")


@pytest.mark.exhaustive
def test_everything_at_midnight_from_a_schedule() -> None:
    text = """
        start = "2031-03-29T22:00"
        zone = "Atlantic/Faroe"
        [workers]
        count = 10
        [jobs.tide_table]
        takes = "2s"
        retry = { attempts = 3, wait = "1m" }
        [schedules.nightly]
        job = "tide_table"
        cron = "0 0 * * *"
        count = 600
        [[faults]]
        kind = "fail"
        job = "tide_table"
        chance = 0.5
        between = ["2031-03-29T23:59", "2031-03-30T00:01"]
    """
    found = ic.forecast(ic.Scenario.loads(text), span="4h", bin="1s", replications=40)
    assert found.quantile("jobs", 0.05) == found.quantile("jobs", 0.95) == 600
    # Ten are begun, and about as many fail at once and leave their workers to the next ones.
    assert found.mean("backlog_peak") == pytest.approx(580, abs=5)
    # In the first minute half of those that start fail at once, which frees their workers: about 600 of 600 start.
    ran = ic.Scenario.loads('run = "4h"\n' + text).run()
    assert found.mean("attempts") == pytest.approx(sum(j.attempts_made for j in ran.rig.jobs()) / 600, rel=0.05)
    assert found.mean("age_peak") == pytest.approx(60, rel=0.25)
    many = ic.forecast(ic.Scenario.loads(text), span="4h", bin="1s", replications=4, load=100_000)
    assert many.mean("jobs") == 60_000_000


def test_what_a_forecast_leaves_out_is_named_and_no_real_code_runs() -> None:
    text = """
        start = "2031-03-29T22:00"
        setup = ["tern_line.booking:reserve"]
        [workers]
        count = 2
        queues = ["harbour"]
        [jobs.poll_buoy]
        takes = "1s"
        queue = "harbour"
        [jobs.submit_manifest]
        call = "tern_line.booking:submit_manifest"
        queue = "harbour"
        [[arrivals]]
        job = "poll_buoy"
        rate = "10/m"
        [[enqueue]]
        job = "submit_manifest"
        args = ["TL-204"]
        [[faults]]
        kind = "crash"
        [[faults]]
        kind = "away"
        between = ["2031-03-29T22:10", "2031-03-29T22:20"]
        [[faults]]
        kind = "outage"
        between = ["2031-03-29T22:30", "2031-03-29T22:35"]
    """
    scenario = ic.Scenario.loads(text)
    found = ic.forecast(scenario, span="1h", bin="1s", replications=20)
    assert found.mean("jobs") == pytest.approx(550, rel=0.05), "in an outage of the queue server nobody can enqueue"
    assert found.mean("backlog_peak") == pytest.approx(100, rel=0.15), "ten minutes without workers"
    assert found.workload.outages == [(600.0, 1200.0), (1800.0, 2100.0)]
    left_out = " ".join(found.workload.left_out)
    assert "submit_manifest: it is real code" in left_out
    assert "the fault 'crash' of line" in left_out


def run(*arguments: object) -> tuple[int, str]:
    result = CliRunner().invoke(main, ["forecast", *map(str, arguments)])
    assert result.exception is None or isinstance(result.exception, SystemExit), result.exception
    return result.exit_code, result.output


def test_the_command(tmp_path: Path) -> None:
    short = ("--span", "12h30m", "--bin", "10s", "--replications", "10")
    code, said = run(DAY, *short)
    assert code == 0
    assert "time to recover" in said
    assert "✓ recovery:" in said
    assert max(map(len, said.splitlines())) <= 80
    code, said = run(DAY, *short, "--load", "10")
    assert code == 1
    assert "✗ backlog:" in said
    worse = tmp_path / "worse.toml"
    worse.write_text(
        DAY.read_text().replace('policy = "patient"', 'policy = "hasty"').replace("title = ", 'title = "Hasty" # ')
    )
    code, said = run(DAY, *short, "--against", worse, "--png", tmp_path / "f.png", "--json")
    made = json.loads(said)
    dead = [next(row["mean"] for row in one["figures"] if row["figure"] == "dead") for one in made]
    assert dead[0] < 1 < 100 < dead[1]
    assert (tmp_path / "f.png").read_bytes()[:4] == b"\x89PNG"


@pytest.mark.exhaustive
def test_advice_names_the_limit_that_binds(tmp_path: Path) -> None:
    text = DAY.read_text()
    text = text[: text.index("[forecast.search]")] + ("[forecast.search]\nattempts = [3, 8]\nworkers = [2, 6]\n")
    (tmp_path / "a.toml").write_text(text)
    code, said = run(tmp_path / "a.toml", "--advise", "--span", "12h30m", "--bin", "10s", "--replications", "10")
    assert code == 0
    assert said.startswith("✓ ")
    assert "8 attempts" in said.splitlines()[0]
    assert "nearest to its limit is" in said
    (tmp_path / "b.toml").write_text(text.replace("backlog = 2000", "backlog = 20"))
    code, said = run(
        tmp_path / "b.toml", "--advise", "--span", "12h30m", "--bin", "10s", "--replications", "10", "--json"
    )
    assert code == 1
    made = json.loads(said)
    assert made["best"] is None
    assert "backlog" in {one["binding"] for one in made["tried"]}


@pytest.mark.parametrize(
    ("text", "arguments", "says"),
    [
        ("[jobs.a]\n", [], "has no modelled jobs that arrive, are enqueued or scheduled"),
        ("[jobs.a]\n[[enqueue]]\njob = 'a'\n", ["--span", "1s", "--bin", "2s"], "and a span of at least one"),
        ("[jobs.a]\n[[enqueue]]\njob = 'a'\n", ["--span", "soon"], "span 'soon' cannot be read at 'soon'"),
        ("[jobs.a]\n[[enqueue]]\njob = 'a'\n", ["--advise"], "has no [forecast.limits]"),
        ("[jobs.a]\n[[enqueue]]\njob = 'a'\n[forecast.limits]\nrecovery = '1h'\n", ["--span", "1h"], "needs an outage"),
        ("[jobs.a]\nqueue = 'x'\n[[enqueue]]\njob = 'a'\n[workers]\nqueues = ['y']\n", ["--span", "1h"], "no workers serve the queue 'x' of a"),
        ("[jobs.a]\n[schedules.s]\njob = 'a'\nevery_after = '1h'\n", ["--span", "1h"], "s.toml:2:1: a fixed delay depends"),
    ],
)  # fmt: skip
def test_what_cannot_be_forecast(tmp_path: Path, text: str, arguments: list[str], says: str) -> None:
    (tmp_path / "s.toml").write_text(text)
    code, said = run(tmp_path / "s.toml", *arguments)
    assert code == 2
    assert says in said


SPREADS: list[tuple[Spread, float]] = [
    (spread_of("3s"), 3.0), (spread_of({"mean": "3s"}), 3.0), (spread_of({"from": "1s", "to": "5s"}), 3.0),
    (spread_of({"median": "2s", "p95": "9s"}), 2 * math.exp((math.log(4.5) / 1.6448536) ** 2 / 2)),
    (spread_of({"measured": ["1s", "2s", "6s"]}), 2.75),
]  # fmt: skip


@pytest.mark.parametrize(("spread", "mean"), SPREADS)
def test_spreads_have_the_mean_that_they_say(spread: Spread, mean: float) -> None:
    import random

    chance = random.Random(7)
    drawn = [spread.draw(chance) / 1e9 for _ in range(40_000)]
    assert spread.mean_ns / 1e9 == pytest.approx(mean, rel=1e-4)
    assert sum(drawn) / len(drawn) == pytest.approx(mean, rel=0.03)
    assert spread.quantile(0.95) >= spread.quantile(0.5)
    assert spread.describe()


@pytest.mark.parametrize(
    ("given", "says"),
    [
        ({}, "has the keys none"), ({"mena": "1s"}, "did you mean 'mean'"), ({"mean": "0s"}, "mean is 0"),
        ({"from": "2s", "to": "1s"}, "to is 1s, which must be above from, 2s"), ({"measured": []}, "give a list of durations"),
    ],
)  # fmt: skip
def test_spreads_that_are_none(given: dict[str, object], says: str) -> None:
    with pytest.raises(ic.DurationError, match=says):
        spread_of(given)
