"""One digest across interpreters and hash seeds; a wheel that installs in a clean environment of each Python."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from functools import cache
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
pytestmark = pytest.mark.xdist_group("environments")  # which are made once
VERSIONS = ("3.11", "3.12", "3.13")
STORY = """
import random
import ironclock as ic
from ironclock.cli import demo_story as evening

def evenings(seed):
    rig = ic.Rig(start=evening.START, zone=evening.ZONE, seed=seed)
    evening.evening(rig)
    return rig.history.digest()

def storm(seed):
    with ic.Rig(seed=seed, zone="Atlantic/Faroe", start="2031-10-25T22:00") as rig:
        import time
        def job(n):
            time.sleep(n % 5)
            if n % 3 == 0:
                [][n]                      # an error whose words may differ
            return {"harbour", "vessel", str(n)}, frozenset({("a", n), ("b", n)}), object
        rig.workers(7, queues={"a": 3, "b": 1})
        kind = rig.job(job, timeout="3s", retry=ic.Retry(4, ic.exponential("10s", factor=1.7, cap="5m", jitter="decorrelated")))
        rig.faults.fail("job", chance=0.3)
        rig.faults.slow("job", by="1.1s", chance=0.3)
        for n in range(200):
            rig.enqueue(kind.call(n), after=n * 0.37, queue="ab"[n % 2])
        rig.run_dry()
    return rig.history.digest()

def fleet(seed):
    import asyncio, threading, time
    with ic.Rig(seed=seed, start="2031-03-03T09:00") as rig:
        bank, mail = rig.service(ic.services.Ledger("bank")), rig.service(ic.services.Mail())
        bank.lose_response(chance=0.2)
        lock = threading.Lock()
        def charge(n):
            def post():
                with lock:
                    time.sleep(1 + n % 3)
                    bank.post("card", "fares", 1 + n, key=n)
            threads = [threading.Thread(target=post), threading.Thread(target=time.sleep, args=(n % 4,))]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            rig.progress(n)
        async def letter(n):
            async with asyncio.timeout(5):
                await asyncio.gather(asyncio.sleep(n % 7), asyncio.to_thread(time.sleep, n % 3))
            mail.send("desk", str(n))
        rig.workers(4)
        retry = ic.Retry(4, ic.exponential("5s", jitter="full"))
        one, two = rig.job(charge, lease="8s", retry=retry), rig.job(letter, retry=retry, deliveries=5)
        rig.faults.crash("charge", at="after bank.post", chance=0.2)
        rig.faults.crash("letter", at="sleep", chance=0.1)
        rig.faults.crash("letter", at="before mail.send", attempts=2, hard=True)
        rig.faults.lose_ack("letter", chance=0.2)
        for n in range(40):
            rig.enqueue((one, two)[n % 2].call(n), after=n)
        rig.run_dry()
        rig.advance("10m")
    return rig.history.digest()

print(evenings(11), storm(3), storm(4), fleet(5), fleet(6))
"""


@cache
def interpreter(version: str) -> str | None:
    """The path of a working Python of that version."""
    names = [shutil.which(f"python{version}"), sys.executable]
    names += [str(p) for p in sorted(Path.home().glob(f".pyenv/versions/{version}.*/bin/python"))]
    for name in filter(None, names):
        probe = subprocess.run(
            [name, "-c", "import sys, venv, ensurepip; print('%d.%d' % sys.version_info[:2])"],
            capture_output=True,
            text=True,
        )
        if probe.stdout.strip() == version:
            return name
    return None


@pytest.fixture(scope="session")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The project's wheel, built from its sdist."""
    out = tmp_path_factory.mktemp("dist")
    built = subprocess.run(
        [sys.executable, "-m", "build", "--outdir", str(out), str(ROOT)], capture_output=True, text=True
    )
    assert built.returncode == 0, built.stdout + built.stderr
    assert len(list(out.glob("*.tar.gz"))) == 1
    return next(out.glob("*.whl"))


@pytest.fixture(scope="session")
def environments(wheel: Path, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """A clean environment with the wheel in it, for each Python that is there."""
    made = {}
    for version in VERSIONS:
        python = interpreter(version)
        if python is None:
            continue
        home = tmp_path_factory.mktemp(f"env{version}")
        subprocess.run([python, "-m", "venv", str(home)], check=True)
        done = subprocess.run(
            [str(home / "bin/python"), "-m", "pip", "install", "-q", str(wheel)], capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        made[version] = home
    return made


def environment(environments: dict[str, Path], version: str) -> Path:
    if version not in environments:
        pytest.skip(f"this machine has no Python {version} that can make a virtual environment")
    return environments[version]


@pytest.mark.exhaustive
@pytest.mark.parametrize("version", VERSIONS)
def test_the_wheel_installs_and_its_demo_runs(environments: dict[str, Path], version: str, tmp_path: Path) -> None:
    home = environment(environments, version)
    done = subprocess.run([str(home / "bin/ironclock"), "demo"], capture_output=True, text=True, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert done.stdout.count("✓") == 4
    typed = next((home / "lib").glob("python*/site-packages/ironclock/py.typed"))
    assert typed.exists()


def digests(python: str, hash_seed: str, zone: str, folder: Path) -> list[str]:
    """The digests of the stories in a process of their own."""
    script = folder / "story.py"
    script.write_text(STORY)
    env = {**os.environ, "PYTHONHASHSEED": hash_seed, "TZ": zone}
    done = subprocess.run([python, str(script)], capture_output=True, text=True, env=env, cwd=folder)
    assert done.returncode == 0, done.stderr
    return done.stdout.split()


@pytest.mark.parametrize(
    ("hash_seed", "zone"), [("4242", "America/Lima"), pytest.param("0", "UTC", marks=pytest.mark.exhaustive)]
)
def test_one_digest_in_every_process(hash_seed: str, zone: str, tmp_path: Path) -> None:
    expected = digests(sys.executable, "7", "Atlantic/Faroe", tmp_path)
    assert len(set(expected)) == 5, "different seeds, different histories"
    assert digests(sys.executable, hash_seed, zone, tmp_path) == expected


@pytest.mark.exhaustive
@pytest.mark.parametrize("version", VERSIONS)
def test_one_digest_everywhere(environments: dict[str, Path], version: str, tmp_path: Path) -> None:
    home = environment(environments, version)
    expected = digests(sys.executable, "7", "Atlantic/Faroe", tmp_path)
    for hash_seed, zone in [("0", "UTC"), ("1", "Asia/Tokyo"), ("4242", "America/Lima")]:
        assert digests(str(home / "bin/python"), hash_seed, zone, tmp_path) == expected


SEARCH = """
import sys
from functools import partial
import ironclock as ic
import probed

searches = [
    (partial(probed.charges, bookings=3), probed.LAWS, {"runs": 250, "depth": 3}),
    (probed.counted, probed.COUNTED, {"lines": "probed", "depth": 0}),
    (partial(probed.counted, cars=4), probed.COUNTED, {"lines": "probed", "preemptions": 3, "runs": 80, "depth": 0}),
    (probed.crossed, [], {"depth": 0}),
]
for number, (story, laws, options) in enumerate(searches):
    found = ic.probe(story, laws, seed=9, **options)
    print(*[f"{one.token} {one.digest} {one.at_run} {one.also}" for one in found], repr(vars(found.coverage)["why"]))
    for token in sys.argv[1:]:
        number_of, _, token = token.partition(":")
        if int(number_of) == number:
            rig = ic.Rig()
            rig.replay(token)
            with rig:
                story(rig)
            print(rig.history.digest())
"""


@pytest.mark.exhaustive
@pytest.mark.parametrize("version", VERSIONS)
def test_one_search_and_one_token_everywhere(environments: dict[str, Path], version: str, tmp_path: Path) -> None:
    home = environment(environments, version)
    (tmp_path / "search.py").write_text(SEARCH)
    shutil.copy(Path(__file__).parent / "probed.py", tmp_path)

    def searched(python: str, hash_seed: str, *tokens: str) -> list[str]:
        env = {**os.environ, "PYTHONHASHSEED": hash_seed}
        command = [python, str(tmp_path / "search.py"), *tokens]
        done = subprocess.run(command, capture_output=True, text=True, env=env, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        return done.stdout.splitlines()

    mine = searched(sys.executable, "7")
    found = [(number, line.split()[0], line.split()[1]) for number, line in enumerate(mine)]
    assert all(token.startswith("ic1-") for _, token, _ in found)
    tokens = [f"{number}:{token}" for number, token, _ in found]
    expected = [line for number, line in enumerate(mine) for line in (line, found[number][2])]
    assert searched(str(home / "bin/python"), "4242", *tokens) == expected


def test_what_import_loads() -> None:
    code = "import sys; before = set(sys.modules); import ironclock; print(*sorted({m.split('.')[0] for m in sys.modules} - before))"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
    assert "ironclock" in loaded
    assert not {"numpy", "pandas", "matplotlib", "rich", "click", "jinja2", "httpx"} & set(loaded)
