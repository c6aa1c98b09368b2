"""The README's and the tutorial's code, run as a reader would."""

from __future__ import annotations

import importlib.util
import inspect
import os
import re
import shlex
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import click
import pytest
from click.testing import CliRunner

import ironclock as ic
from ironclock import pytest_plugin
from ironclock.cli.main import main
from ironclock.scenario.law_tables import law_file_schema

ROOT = Path(__file__).parents[1]
PAGES = sorted(path.relative_to(ROOT).as_posix() for path in (ROOT / "docs").rglob("*.md"))
WRITTEN = [page for page in PAGES if not page.startswith("docs/reference/")]


def blocks(page: str, language: str) -> list[str]:
    return re.findall(
        rf"^```{language}(?: title=[^\n]*)?\n(.*?)^```",
        (ROOT / page).read_text(encoding="utf-8"),
        re.MULTILINE | re.DOTALL,
    )


def test_the_readmes_test_fails_as_it_says_and_passes_when_mended(pytester: pytest.Pytester) -> None:
    (code,) = blocks("README.md", "python")
    (output,) = blocks("README.md", "text")
    pytester.makepyfile(test_first=code)
    result = pytester.runpytest_subprocess("test_first.py")
    result.assert_outcomes(failed=1)
    printed = result.stdout.str().splitlines()
    for line in output.splitlines():
        assert line in printed
    pytester.makepyfile(test_first=code.replace('"22m"', '"23m"'))
    pytester.runpytest_subprocess("test_first.py").assert_outcomes(passed=1)
    assert len((ROOT / "README.md").read_text(encoding="utf-8").splitlines()) <= 120


def test_get_started_passes_and_fails_as_it_says(pytester: pytest.Pytester) -> None:
    (code,) = blocks("docs/get-started.md", "python")
    (output,) = blocks("docs/get-started.md", "text")
    pytester.makepyfile(test_first=code)
    pytester.runpytest_subprocess().assert_outcomes(passed=2)
    pytester.makepyfile(test_first=code.replace('"21m"', '"20m"'))
    failed = pytester.runpytest_subprocess()
    failed.assert_outcomes(passed=1, failed=1)
    assert output in failed.stdout.str()


def test_the_first_page(pytester: pytest.Pytester) -> None:
    (code,) = blocks("docs/index.md", "python")
    pytester.makepyfile(test_first=code)
    pytester.runpytest_subprocess().assert_outcomes(passed=1)


def test_the_tutorial_typed_by_hand(pytester: pytest.Pytester, capsys: pytest.CaptureFixture[str]) -> None:
    code = blocks("docs/tutorial.md", "python")
    assert len(code) == 5
    names: dict[str, object] = {}
    for block in code:
        exec(compile(block, "docs/tutorial.md", "exec"), names)
    said = capsys.readouterr().out
    assert "21:20  booking 204 is released" in said
    assert "21:20  booking 205 is released" in said
    assert "dead letter" in said
    pytester.makepyfile(test_tutorial=code[0].split("rig =")[0] + code[4])
    pytester.runpytest().assert_outcomes(passed=1)


@pytest.mark.parametrize("number", range(5))
def test_the_page_on_workers(number: int, capsys: pytest.CaptureFixture[str]) -> None:
    code = blocks("docs/workers.md", "python")
    assert len(code) == 5
    exec(compile(code[number], "docs/workers.md", "exec"), {"__name__": "page"})
    said = capsys.readouterr().out
    if number == 0:
        assert said == blocks("docs/workers.md", "text")[0]
    for expected in re.findall(r"print\(.*\)\n?(?:  )?# (.*)", code[number]):
        assert expected.split(": ")[0] in said or expected in said


@pytest.mark.parametrize("number", range(6))
def test_the_page_on_the_probe(number: int, capsys: pytest.CaptureFixture[str]) -> None:
    code = blocks("docs/probe.md", "python")
    assert len(code) == 6
    exec(compile(code[number], "docs/probe.md", "exec"), {"__name__": "page"})
    said = capsys.readouterr().out
    if number == 0:
        assert said.startswith(blocks("docs/probe.md", "text")[0])
    for expected in re.findall(r"print\(.*\)  # (.*)", code[number]):
        assert said.strip() == expected


def test_the_page_on_databases(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    (code,) = blocks("docs/databases.md", "python")
    exec(compile(code, "docs/databases.md", "exec"), {"__name__": "page"})
    assert capsys.readouterr().out == blocks("docs/databases.md", "text")[0]


@pytest.mark.parametrize(
    ("page", "count"), [("scenario", 1), ("reports", 1), ("forecast", 1), ("trust", 3), ("contracts", 2)]
)
def test_code_on_the_other_pages(
    page: str, count: int, monkeypatch: pytest.MonkeyPatch, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "examples").symlink_to(ROOT / "examples")
    monkeypatch.chdir(tmp_path)
    code = blocks(f"docs/{page}.md", "python")
    assert len(code) == count
    for block in code:
        names: dict[str, Any] = {"__name__": "page"}
        exec(compile(block, f"docs/{page}.md", "exec"), names)
        for name, value in names.items():
            if name.startswith("test_") and not value.__code__.co_argcount:
                value()
        said = capsys.readouterr().out
        for expected in re.findall(r"print\(.*\)  # (.*)", block):
            assert expected in said


def test_the_page_on_suites(pytester: pytest.Pytester) -> None:
    (code,) = blocks("docs/suite.md", "python")
    pytester.makepyfile(test_letter=code)
    pytester.runpytest().assert_outcomes(passed=1)
    (toml,) = blocks("docs/suite.md", "toml")
    assert set(tomllib.loads(toml)["tool"]["ironclock"]) == {"laws"}
    finding, table = blocks("docs/suite.md", "text")
    (pytester.path / "examples").symlink_to(ROOT / "examples")
    pytester.makepyprojecttoml("")
    searched = pytester.runpytest_subprocess("examples/suite", "--ironclock-search", "-p", "no:cacheprovider")
    assert searched.ret == pytest.ExitCode.TESTS_FAILED
    assert finding in searched.stdout.str()
    assert "1 law broken" in searched.stdout.str()
    covered = pytester.runpytest_subprocess("examples/suite", "--ironclock-seams", "-p", "no:cacheprovider")
    assert table in covered.stdout.str()


def test_the_page_on_rehearsals(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(ROOT)
    (report,) = blocks("docs/rehearse.md", "text")
    command, with_code = blocks("docs/rehearse.md", "bash")
    assert CliRunner().invoke(main, shlex.split(command)[1:]).stdout.startswith(report)
    assert "18 effects are done twice" in CliRunner().invoke(main, shlex.split(with_code)[1:]).stdout
    (toml,) = blocks("docs/rehearse.md", "toml")
    (tmp_path / "calm.toml").write_text(toml, encoding="utf-8")
    python, _ = blocks("docs/rehearse.md", "python")
    exec(python, {})
    assert not ic.rehearse("examples/rehearsal/friday.csv", policies=tmp_path / "calm.toml").failing(["dead+"])


def test_the_page_on_what_tests_notice(pytester: pytest.Pytester) -> None:
    (pytester.path / "examples").symlink_to(ROOT / "examples")
    pytester.makepyprojecttoml("")
    asked = pytester.runpytest_subprocess("examples/suite", "--ironclock-notice", "-p", "no:cacheprovider")
    (part,) = blocks("docs/notice.md", "text")
    assert part in asked.stdout.str()
    (toml,) = blocks("docs/notice.md", "toml")
    assert set(tomllib.loads(toml)["tool"]["ironclock"]) == {"notice", "unnoticed"}
    page = (ROOT / "docs" / "notice.md").read_text(encoding="utf-8")
    assert re.search(r"(\d+ of \d+) changes noticed", asked.stdout.str())[1] in page  # type: ignore[index]
    watchful = pytester.runpytest_subprocess("examples/watchful_suite", "--ironclock-notice", "-p", "no:cacheprovider")
    assert "34 of 34 changes noticed: 100.0 %" in watchful.stdout.str()


def test_options_of_pytest_on_the_pages_exist(pytester: pytest.Pytester) -> None:
    known = set(re.findall(r"--ironclock-[a-z-]+", pytester.runpytest("--help").stdout.str()))
    for page in [ROOT / "README.md", *(ROOT / page for page in WRITTEN)]:
        assert set(re.findall(r"--ironclock-[a-z-]+", page.read_text(encoding="utf-8"))) <= known, page


def test_scenarios_and_laws_on_the_pages_can_be_used() -> None:
    (scenario,) = blocks("docs/scenario.md", "toml")
    ran = ic.Scenario.loads(scenario).run()
    ran.check()
    assert len(ran.outcomes) == 2
    storm, settings = blocks("docs/forecast.md", "toml")
    arrival = '[[enqueue]]\njob = "submit_manifest"\n'
    assert ic.forecast(ic.Scenario.loads(storm + arrival), span="1h", replications=2).mean("jobs") == 1
    assert settings in (ROOT / "examples/scenarios/manifest_day.toml").read_text(encoding="utf-8")
    (laws,) = blocks("docs/reports.md", "toml")
    assert set(tomllib.loads(laws)) == {"zone", "columns", "outcomes", "laws"}


def test_commands_on_the_pages_exist() -> None:
    for page in [ROOT / "README.md", *(ROOT / page for page in WRITTEN)]:
        for line in re.findall(r"^ironclock (.*)$", page.read_text(encoding="utf-8"), re.MULTILINE):
            name, *arguments = shlex.split(line.split(" > ")[0], comments=True)
            command = main.get_command(click.Context(main), name)
            assert command is not None, line
            known = {option for parameter in command.params for option in parameter.opts}
            assert {a for a in arguments if a.startswith("--")} <= known, line


@pytest.fixture(scope="module")
def reference() -> Any:
    spec = importlib.util.spec_from_file_location("reference_of_docs", ROOT / "docs/reference.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    return module


def test_the_reference_is_what_the_code_says(reference: Any) -> None:
    for name, text in reference.Reference().pages().items():
        page = ROOT / "docs/reference" / f"{name}.md"
        assert page.read_text(encoding="utf-8") == text, "run: python docs/reference.py"


def test_all_that_can_be_reached_is_in_the_reference(reference: Any, pytester: pytest.Pytester) -> None:
    """From the code to the reference: every public name, and every attribute of the objects that a rig gives."""
    made = reference.Reference()
    made.pages()
    missing = {name for name in ic.__all__ if name not in ("laws", "services", "__version__")} - set(made.described)
    missing |= (set(ic.laws.__all__) | set(ic.services.__all__)) - set(made.described)
    for one in things():
        for name in dir(one):
            where = next((base for base in type(one).__mro__ if name in vars(base)), type(one))
            if (
                name.startswith("_")
                or not where.__module__.startswith("ironclock")
                or issubclass(type(one), BaseException)
            ):
                continue
            names = {f"{base.__name__}.{name}" for base in type(one).__mro__}
            told = f"`{name}`" in (inspect.getdoc(type(one)) or "")  # a field, in the words of its class
            if not told and not names & set(made.described):
                missing.add(f"{type(one).__name__}.{name}")
    missing |= set(re.findall(r"--ironclock-[a-z-]+", pytester.runpytest("--help").stdout.str())) - set(made.described)
    missing |= {f"ironclock {name}" for name in main.list_commands(click.Context(main))} - set(made.described)
    missing |= {f"tool.ironclock.{name}" for name in pytest_plugin.SETTINGS} - set(made.described)
    for path, schema in (("scenario", ic.Scenario.schema()), ("laws", law_file_schema())):
        for key in schema["properties"]:
            missing |= {f"{path}:The file ({path}).{key}"} - set(made.described)
        for name, of in schema.get("$defs", {}).items():
            missing |= {f"{path}:{name}.{key}" for key in of.get("properties", {})} - set(made.described)
    assert missing == set()


def things() -> list[Any]:
    """Return objects that a user holds."""
    rig = ic.Rig()
    with rig:
        kind = rig.job(lambda: None, name="weigh", retry=2)
        rig.faults.fail("weigh", attempts=1)
        job = rig.enqueue(kind.call())
        flow = rig.flow("loading")
        step = flow.add("weigh", kind.call())
        till = rig.schedule("till", kind.call(), ic.every("1h"))
        with rig.transaction() as transaction, rig.request("GET /") as request:
            pass
        mail = rig.service(ic.services.Mail())
        letter = mail.send("ada@tern-line.test", "a letter", "text")
        rig.run_dry()
        world = rig.world
    found = ic.probe(lambda rig: rig.enqueue(rig.job(print).call()) and rig.run_dry(), runs=1)
    breach = ic.Breach("words")
    scenario = ic.Scenario.loads('[jobs.weigh]\ntakes = "1s"\n[[enqueue]]\njob = "weigh"\n')
    ran = scenario.run()
    return [
        rig, kind, kind.call(), kind.policy, kind.policy.retry, job, job.attempts[0], rig.jobs(), rig.dead, rig.faults,
        rig.faults.fail("weigh"), rig.effects, rig.history, rig.history[0], rig.conditions, rig.schedules, till, flow, step,
        rig.queue("default"), rig.resource("crane", 1), transaction, request, world, world.job_records[0],
        world.job_records[0].attempts[0], breach, found, found.coverage, mail, letter, scenario, ran, ic.expected("weigh"),
        ic.cron("* * * * *"), ic.every("1h").between("2031-03-03", "2031-03-04"), ic.compare(rig.history, rig.history),
    ]  # fmt: skip


def test_all_that_is_in_the_reference_is_in_the_code(reference: Any) -> None:
    """From the reference to the code: every heading is the name of something."""
    made = reference.Reference()
    made.pages()
    for page in (ROOT / "docs/reference").glob("*.md"):
        if page.stem in ("formats", "settings", "pytest", "commands"):
            continue
        for name in re.findall(r"^#{2,3} .*\{ #([A-Za-z][\w.]*) \}$", page.read_text(encoding="utf-8"), re.MULTILINE):
            first, _, member = name.partition(".")
            thing = made.things.get(first)
            assert thing is not None or first == "own", name
            if member:
                told = any(member in reference.attributes(base) for base in thing.__mro__)
                assert hasattr(thing, member) or told, name


def test_every_function_of_the_reference_names_its_parameters(reference: Any) -> None:
    """A public function with parameters says in its docstring what each of them is."""
    made = reference.Reference()
    made.pages()
    silent = []
    for name in made.described:
        first, _, member = name.partition(".")
        owner = made.things.get(first)
        thing, also = owner, ""
        if member and owner is not None:
            thing = next((one[2] for one in reference.members(owner) if one[:2] == (member, "method")), None)
            also = inspect.getdoc(owner) or ""
        if thing is None or inspect.isclass(thing) or not callable(thing):
            continue
        words = f"{inspect.getdoc(thing)} {also}"
        for parameter in inspect.signature(thing).parameters:
            if parameter not in ("self", "cls", "args", "kwargs") and not re.search(rf"`{parameter}\b", words):
                silent.append(f"{name}({parameter})")
    assert silent == []


def test_troubleshooting_knows_every_error() -> None:
    text = (ROOT / "docs/troubleshooting.md").read_text(encoding="utf-8")
    rows = dict(re.findall(r"^\| `(\w+)` \| (.*) \|$", text, re.MULTILINE))
    errors = {
        name for name in ic.__all__ if inspect.isclass(one := getattr(ic, name)) and issubclass(one, BaseException)
    }
    assert errors - {"IronClockError"} == set(rows)
    assert all(len([cell for cell in row.split(" | ") if cell.strip()]) == 2 for row in rows.values())


def test_the_site_can_be_built_and_loads_nothing(tmp_path: Path) -> None:
    """With --strict each link and each anchor must exist."""
    env = {**os.environ, "NO_MKDOCS_2_WARNING": "1"}
    command = [sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "--site-dir", str(tmp_path / "site")]
    done = subprocess.run(command, cwd=ROOT, env=env, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    for page in (tmp_path / "site").rglob("*.html"):
        loaded = re.findall(r'(?:src|rel="stylesheet" href)="(https?://[^"]*)"', page.read_text(encoding="utf-8"))
        assert loaded == [], page
    assert (tmp_path / "site/search/search_index.json").stat().st_size > 100_000


def test_the_pages_speak_plain_english() -> None:
    odd = re.compile(
        r"(?<!there )(?<!There )\bis no (?!longer|more|loose)\w+|that there is not|\ball the same\b|lets? \w+ (?:go|stand)\b|"
        r"\bstands? still\b|with profit|unevenness|\bwho wants\b|\bin vain\b|\bmeanwhile\b", re.IGNORECASE,
    )  # fmt: skip
    found = {
        page: odd.findall((ROOT / page).read_text(encoding="utf-8"))
        for page in ("README.md", "CONTRIBUTING.md", *PAGES)
    }
    assert {page: words for page, words in found.items() if words} == {}


@pytest.mark.parametrize("page", ["README.md", "CONTRIBUTING.md", *WRITTEN])
def test_links_lead_somewhere(page: str) -> None:
    for target in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", (ROOT / page).read_text(encoding="utf-8")):
        assert ((ROOT / page).parent / target).exists(), target


def test_the_pictures_are_few_and_shown() -> None:
    pictures = {path.name for path in (ROOT / "docs/screenshots").glob("*.png")}
    shown = set(re.findall(r"screenshots/([\w-]+\.png)", (ROOT / "docs/gallery.md").read_text(encoding="utf-8")))
    assert pictures == shown
    assert len(pictures) < 20
