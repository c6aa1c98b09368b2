"""Two histories side by side, and histories that were approved."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner

import ironclock as ic
from ironclock.cli.main import main


def evening(attempts: int = 3, extra: bool = False, takes: str = "2s", start: str = "2031-03-29T21:00") -> ic.History:
    rig = ic.Rig(start=start)
    rig.workers(1)
    ledger = rig.service(ic.services.Ledger())

    def charge_fare(booking: int) -> str:
        ledger.post("fare", "line", 180, key=f"B-{booking}")
        return "paid"

    job = rig.job(charge_fare, takes=takes, retry=ic.Retry(attempts=attempts, wait="10s"))
    rig.faults.fail("charge_fare", attempts=(1, 2), when=lambda attempt: attempt.job.args == (2,))
    with rig:
        for booking in (1, 2, 3):
            rig.enqueue(job.call(booking))
            if extra:
                rig.enqueue(job.call(booking * 100))
        rig.run_dry()
    return rig.history


def test_the_same_is_the_same() -> None:
    found = ic.compare(evening(), evening())
    assert found.same
    assert found.words() == "the same: 3 jobs, their attempts, instants and effects"


def test_an_outcome_an_instant_and_an_effect_that_changed() -> None:
    found = ic.compare(evening(attempts=3), evening(attempts=2))
    assert not found.same
    first = found.changes[0]
    assert first.job == "charge_fare(2)"
    assert "done before, dead now" in first.what
    assert "3 attempts before, 2 now" in first.what
    assert [(name.split()[0], before, after) for name, before, after in found.effects] == [("ledger.post", 1, 0)]
    slower = ic.compare(evening(), evening(takes="3s"))
    assert "charge_fare(1): ends 1s later" in slower.words()
    assert slower.changes[0].what == ("ends 2s later",), "the worst comes first"


def test_jobs_that_came_in_between_shift_nobody() -> None:
    found = ic.compare(evening(takes="0s"), evening(extra=True, takes="0s"))
    assert {change.job for change in found.changes} == {"charge_fare(100)", "charge_fare(200)", "charge_fare(300)"}
    assert {change.what for change in found.changes} == {("new",)}


def test_the_worst_comes_first_and_each_has_its_name() -> None:
    found = ic.compare(evening(attempts=2), evening(attempts=3, extra=True, takes="3s"), names=("lean", "rich"))
    first = [change.what[0] for change in found.changes]
    assert first[:4] == ["only in rich", "only in rich", "only in rich", "dead in lean, done in rich"]
    assert all(words.startswith("ends ") for words in first[4:])
    assert ic.compare(evening(attempts=3), evening(attempts=2, extra=True)).changes[0].job == "charge_fare(2)"


def test_two_starts_are_compared_from_their_own_beginnings() -> None:
    assert ic.compare(evening(), evening(start="2031-06-01T05:00")).same


def test_the_command_on_histories(tmp_path: Path) -> None:
    evening().save(tmp_path / "a.jsonl")
    evening(attempts=2).save(tmp_path / "b.jsonl")
    files = [str(tmp_path / name) for name in ("a.jsonl", "b.jsonl")]
    result = CliRunner().invoke(main, ["compare", *files, "--png", str(tmp_path / "c.png")])
    assert result.exit_code == 1
    assert "done in a.jsonl, dead in b.jsonl" in result.output
    assert "a.jsonl charge_fare(2)" in result.output
    assert max(len(line) for line in result.output.splitlines() if "█" in line) <= 130
    assert (tmp_path / "c.png").read_bytes()[:4] == b"\x89PNG"
    result = CliRunner().invoke(main, ["compare", *files, "--json"])
    assert json.loads(result.output)["totals"]["dead"] == [0, 1]
    assert CliRunner().invoke(main, ["compare", files[0], files[0]]).exit_code == 0


def test_the_command_on_policies_and_scenarios(tmp_path: Path) -> None:
    text = """
        [policies.patient]
        retry = { attempts = 4, wait = "1m" }
        [policies.hasty]
        retry = { attempts = 2, wait = "1s" }
        [jobs.submit_manifest]
        policy = "patient"
        [[enqueue]]
        job = "submit_manifest"
        [[faults]]
        kind = "fail"
        between = ["2031-03-03T09:00", "2031-03-03T09:01:30"]
    """
    (tmp_path / "s.toml").write_text(text)
    (tmp_path / "t.toml").write_text(text.replace('policy = "patient"', 'policy = "hasty"'))
    policies = CliRunner().invoke(main, ["compare", str(tmp_path / "s.toml"), "--policies", "patient", "hasty"])
    files = CliRunner().invoke(main, ["compare", str(tmp_path / "s.toml"), str(tmp_path / "t.toml")])
    for result, one, other in ((policies, "patient", "hasty"), (files, "s.toml", "t.toml")):
        assert result.exit_code == 1
        words = f"submit_manifest(): done in {one}, dead in {other}; 3 attempts in {one}, 2 in {other}"
        assert words in result.output
    wrong = CliRunner().invoke(main, ["compare", str(tmp_path / "s.toml"), "--policies", "patient", "hastyy"])
    assert wrong.exit_code == 2
    assert "did you mean 'hasty'" in wrong.output
    assert CliRunner().invoke(main, ["compare", str(tmp_path / "s.toml")]).exit_code == 2


def test_approved_histories(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        """
        import ironclock as ic

        def test_a_hold(rig):
            job = rig.job(lambda booking: "released", name="release_hold", retry=ic.Retry(attempts=2, wait="1m"))
            rig.enqueue(job.call(7), after=WAIT)
            rig.run_dry()
            rig.matches("approved/hold.jsonl")
        """.replace("WAIT", '"20m"')
    )
    result = pytester.runpytest()
    result.assert_outcomes(failed=1)
    result.stdout.fnmatch_lines(["*there is no approved history*--ironclock-approve*"])
    pytester.runpytest("--ironclock-approve").assert_outcomes(passed=1)
    assert (pytester.path / "approved" / "hold.jsonl").exists()
    pytester.runpytest().assert_outcomes(passed=1)
    source = pytester.path / "test_approved_histories.py"
    source.write_text(source.read_text().replace('"20m"', '"30m"'))
    result = pytester.runpytest("-p", "no:cacheprovider")
    result.assert_outcomes(failed=1)
    result.stdout.fnmatch_lines(["*release_hold(7): due after 20m before, 30m now; ends 10m later*"])


def test_what_no_comparison_of_jobs_shows_is_found_as_well(tmp_path: Path) -> None:
    rigs = []
    for text in ("one", "two"):
        with ic.Rig() as rig:
            rig.note(text)
        rigs.append(rig)
    rigs[0].history.save(tmp_path / "n.jsonl")
    rigs[0].matches(str(tmp_path / "n.jsonl"))
    with pytest.raises(ic.NotApproved, match="at its entry 1"):
        rigs[1].matches(str(tmp_path / "n.jsonl"))


def test_a_changed_argument_is_a_change_and_not_one_job_gone_and_one_new() -> None:
    def run(*crates: int) -> ic.History:
        with ic.Rig() as rig:
            load = rig.job(lambda crate: crate, name="load")
            for number, crate in enumerate(crates):
                rig.enqueue(load, crate, after=f"{number}m")
            rig.run_dry()
        return rig.history

    difference = ic.compare(run(1, 2, 3), run(1, 7, 3))
    (change,) = difference.changes
    assert change.job == "load(2)"
    assert change.what == ("arguments (7) now", "gives 2 before, 7 now")
    assert {c.what[0] for c in ic.compare(run(1, 2), run(1, 2, 3)).changes} == {"new"}
