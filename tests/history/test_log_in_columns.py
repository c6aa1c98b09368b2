"""A log is read in columns if it can be, and row by row otherwise: both tell the same history, and break the same
laws."""

import csv
import json
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import ironclock as ic
from ironclock.history.job_records import job_records
from ironclock.history.log_histories import history_of
from ironclock.history.log_parts import in_columns
from ironclock.history.log_rows import Reading, read
from ironclock.history.log_sources import opened_table
from ironclock.laws.law import Law, World, broken_by
from ironclock.laws.log_check import check_logs

HEAD = ("job", "name", "queue", "key", "args", "enqueued", "due", "attempt", "started", "ended", "outcome", "error",
        "worker", "effect")  # fmt: skip

Row = dict[str, str]

LAWS: dict[str, Callable[[], Law]] = {
    "nothing_lost": ic.laws.nothing_lost,
    "nothing_lost with an effect": lambda: ic.laws.nothing_lost("charge_fare", effect="charge"),
    "nothing_lost by a key": lambda: ic.laws.nothing_lost("charge_fare", effect="charge", key=lambda arg=None: arg),
    "no_overlap": ic.laws.no_overlap,
    "no_overlap of a type": lambda: ic.laws.no_overlap("charge_fare"),
    "no_overlap by key": lambda: ic.laws.no_overlap("charge_fare", per_key=True),
    "finishes_within": lambda: ic.laws.finishes_within(None, "5s"),
    "finishes_within of a type": lambda: ic.laws.finishes_within("charge_fare", "2s"),
    "attempts_at_most": lambda: ic.laws.attempts_at_most(None, 2),
    "attempts_at_most on an error": lambda: ic.laws.attempts_at_most(None, 1, on="TimeoutError"),
    "attempts_at_most on any error": lambda: ic.laws.attempts_at_most("charge_fare", 1, on="Error"),
    "in_order": lambda: ic.laws.in_order("charge_fare"),
    "in_order by key": lambda: ic.laws.in_order("charge_fare", per_key=True),
    "queue_below": lambda: ic.laws.queue_below("desk", 2),
    "queue_below 3": lambda: ic.laws.queue_below("desk", 3),
    "once_per_key": lambda: ic.laws.once_per_key("charge"),
    "once_per_key due": lambda: ic.laws.once_per_key("charge", due=["k1", "k2", "k9"]),
    "no_key_twice": ic.laws.no_key_twice,
    "no_deadlock": ic.laws.no_deadlock,
    "after_commit": ic.laws.after_commit,
    "nothing_left_behind": ic.laws.nothing_left_behind,
    "no_firing_refused": ic.laws.no_firing_refused,
    "stops_when_asked": ic.laws.stops_when_asked,
    "each": lambda: ic.laws.each("charge", "the key is k1", lambda data: data.get("key") == "k1"),
    "of its own": lambda: lambda world: [f"{job.id} is {job.state}" for job in world if job.state != "done"],
}


def at(second: float) -> str:
    return f"2031-03-28T10:{int(second) // 60:02}:{int(second) % 60:02}.{round(second % 1 * 1000):03}+00:00"


instants = st.integers(0, 40).map(lambda half: at(half / 2))
rows = st.fixed_dictionaries({
    "job": st.sampled_from(["a", "b", "c", "d", "e"]), "name": st.sampled_from(["charge_fare", "print_label", ""]),
    "queue": st.sampled_from(["desk", "payments", ""]), "key": st.sampled_from(["", "k1", "k2", "k3"]),
    "args": st.sampled_from(["", "k1", "k2"]), "enqueued": st.one_of(st.just(""), instants),
    "due": st.one_of(st.just(""), instants), "attempt": st.sampled_from(["", "1", "2", "3"]), "started": instants,
    "ended": st.one_of(st.just(""), instants), "outcome": st.sampled_from(["ok", "ok", "error", "timeout", "lost", "dead"]),
    "error": st.sampled_from(["", "TimeoutError: too late", "ValueError", "Error: bad"]),
    "worker": st.sampled_from(["", "w1"]), "effect": st.sampled_from(["", "charge", "print"]),
})  # fmt: skip


def written(folder: Path, log: list[Row], head: tuple[str, ...] = HEAD) -> tuple[Path, Path]:
    """Write a log as CSV and as JSON Lines, which begins with an empty line: so lines have the same numbers."""
    table, lines = folder / "log.csv", folder / "log.jsonl"
    with table.open("w", newline="") as file:
        out = csv.writer(file, lineterminator="\n")
        out.writerow(head)
        out.writerows([row[name] for name in head] for row in log)
    lines.write_text("\n" + "".join(json.dumps({name: row[name] for name in head}) + "\n" for row in log))
    return table, lines


def in_columns_or_rows(paths: list[Path], torn: list[str], **how: Any) -> ic.History:
    """Read logs in columns, however small they are; row by row if they cannot be read in columns."""
    reading = Reading.of(**how)
    found = in_columns([str(path) for path in paths], reading, None, None, torn, None)
    return ic.log_history(paths, torn=torn, **how) if found is None else found


def told(path: Path, **how: Any) -> tuple[ic.History, list[str]]:
    """Read a log, in columns if that can be."""
    torn: list[str] = []
    history = in_columns_or_rows([path], torn, bad_rows=1, **how)
    return history, sorted(line.split(":", 1)[1] for line in torn)


def row_by_row(path: Path, zone: str = "UTC") -> tuple[ic.History, list[str]]:
    """Read a log as it is read without Arrow."""
    torn: list[str] = []
    reading = Reading.of(zone=zone, bad_rows=1)
    with opened_table(str(path), torn) as table:
        history = history_of(list(read(table, reading, reading.meaning(table, None), torn, {})), zone)
    return history, sorted(line.split(":", 1)[1] for line in torn)


def same(folder: Path, log: list[Row], **how: Any) -> ic.History:
    """Read a log both ways, and compare what is read. Return the history in columns."""
    by_csv, by_json = written(folder, log)
    (listed, bad_rows), (columns, bad) = row_by_row(by_csv, **how), told(by_csv, **how)
    assert told(by_json, **how)[0].digest() == row_by_row(by_json, **how)[0].digest() == listed.digest()
    assert bad == bad_rows == told(by_json, **how)[1]
    assert list(columns) == list(listed)
    assert len(columns) == len(listed)
    if len(listed) and all(row["started"] > "1900" for row in log):
        assert columns.jobs_in_columns(columns.entry) is not None, "CSV is read in columns"
    assert listed.jobs_in_columns(listed.entry) is None
    assert columns.digest() == listed.digest()
    assert columns.end_ns == listed.end_ns
    assert [one.as_dict() for one in job_records(columns)] == [one.as_dict() for one in job_records(listed)]
    assert [one.as_dict() for one in World(columns).job_records] == [one.as_dict() for one in job_records(listed)]
    for effect in ("charge", "print"):
        assert columns.keys_of(effect) == listed.keys_of(effect)
    assert columns.effects_done() == listed.effects_done()
    assert columns.effect_names() == listed.effect_names()
    for whats in (("started",), ("failed", "enqueued"), ("redelivered", "crashed"), ("note",)):
        assert columns.numbers_of(*whats) == listed.numbers_of(*whats)
        assert columns.count_of(whats[0]) == listed.count_of(whats[0])
    assert columns.of_jobs({"a", "c"}) == listed.of_jobs({"a", "c"})
    return columns


def found(law: Law, history: ic.History) -> Any:
    try:
        return [(breach.words, list(breach.proof)) for breach in broken_by([law], World(history))]
    except ic.SelectionError as error:
        return str(error)


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(log=st.lists(rows, min_size=1, max_size=12))
def test_columns_tell_what_rows_tell(tmp_path: Path, log: list[Row]) -> None:
    same(tmp_path, log)
    by_csv, by_json = written(tmp_path, log)
    columns, listed = told(by_csv)[0], row_by_row(by_json)[0]
    for name, law in LAWS.items():
        assert found(law(), columns) == found(law(), listed), name


def likely(jobs: int, seed: int) -> list[Row]:
    """Return a log like a real one: most jobs are well, some are tried again, few overlap or are there twice."""
    chance = random.Random(seed)
    log: list[Row] = []
    clock = 0.0
    for number in range(jobs):
        clock += chance.expovariate(2)
        name, queue = chance.choice([("charge_fare", "payments"), ("print_label", "desk"), ("release_hold", "desk")])
        begin = clock
        for attempt in range(1, 5):
            begin += chance.expovariate(1)
            end = begin + chance.expovariate(2)
            outcome = chance.choices(["ok", "error", "lost", "dead"], [85, 10, 4, 1])[0]
            log.append(dict.fromkeys(HEAD, "") | {
                "job": f"j{number}", "name": name, "queue": queue, "key": f"k{chance.randrange(jobs)}",
                "enqueued": at(clock), "attempt": str(attempt), "started": at(begin), "outcome": outcome,
                "ended": at(end) if chance.random() < 0.99 else "", "error": "" if outcome == "ok" else "TimeoutError: x",
                "worker": "w1", "effect": "charge" if name == "charge_fare" and chance.random() < 0.97 else "",
            })  # fmt: skip
            if chance.random() < 0.01:
                log.append(log[-1])
            if outcome in ("ok", "dead") and chance.random() < 0.98:
                break
            begin = end + 1 if chance.random() < 0.97 else begin
    chance.shuffle(log)
    return sorted(log, key=lambda row: row["started"]) if seed % 2 else log


@pytest.mark.parametrize("seed", [0, 1, *(pytest.param(n, marks=pytest.mark.exhaustive) for n in range(2, 6))])
def test_a_log_like_a_real_one(tmp_path: Path, seed: int) -> None:
    log = likely(300, seed)
    same(tmp_path, log)
    by_csv, by_json = written(tmp_path, log)
    columns, listed = told(by_csv)[0], row_by_row(by_json)[0]
    broken = 0
    for name, law in LAWS.items():
        ours, theirs = found(law(), columns), found(law(), listed)
        assert ours == theirs, name
        broken += bool(ours)
    assert broken > 8, "the laws are broken, so that something is compared"


def log_of(column: str, values: list[str], also: dict[str, str] | None = None) -> list[Row]:
    """Return a log whose rows differ in one column."""
    plain = {"job": "j", "name": "charge_fare", "started": at(1), "ended": at(2), "outcome": "ok", **(also or {})}
    return [{**dict.fromkeys(HEAD, ""), **plain, "job": f"j{n}", column: value} for n, value in enumerate(values)]


SHAPES = {
    "offsets": log_of("started", ["2031-03-28T10:00:00+01:00", "2031-03-28 09:00:01Z", "2031-03-28T08:00:00.5-01:30"]),
    "many digits": log_of("started", ["2031-03-28T10:00:00.123456789Z", "2031-03-28T10:00:00.1Z"], {"ended": ""}),
    "UTC in words": log_of("started", ["2031-03-28 10:00:00 UTC", "2031-03-28T10:00:00 GMT"], {"ended": ""}),
    "no offset": log_of("started", ["2031-03-28 10:00", "2031-03-28T10:00:01.25", "2031-03-28"], {"ended": ""}),
    "mixed": log_of("started", ["2031-03-28T10:00:00Z", "2031-03-28 10:00:00", "1932458400"], {"ended": ""}),
    "a comma": log_of("started", ["2031-03-28 10:00:00,5"], {"ended": ""}),
    "seconds": log_of("started", ["1932458400", "1932458401.5", "1932458402.000000001"], {"ended": ""}),
    "milliseconds": log_of("started", ["1932458400000", "1932458400001", "1932458400001.25"], {"ended": ""}),
    "microseconds": log_of("started", ["1932458400000000", "1932458400000001"], {"ended": ""}),
    "nanoseconds": log_of("started", ["1932458400000000000", "1932458400000000001"], {"ended": ""}),
    "long ago": log_of("started", ["1066-10-14T09:00:00Z", "2031-03-28T10:00:00Z"], {"ended": ""}),
    "spaces": log_of("name", [" charge_fare", "charge_fare ", "\tcharge_fare"], {"started": f" {at(1)} "}),
    "attempts as tools write them": log_of("attempt", ["1.0", "2", "", "2.0"]),
    "words for outcomes": log_of("outcome", ["SUCCESS", "Failed", "timed_out", "killed", "discarded", "200"]),
    "quotes, delimiters and lines in cells": log_of("error", ['a "b", c', "a\nb\nc", "", "x;y", "a\r\nb"]),
    "no end": log_of("ended", ["", at(2), at(0)]),
    "letters": log_of("key", ["ø", "鍵", "k\u00a0"]),
}  # fmt: skip


@pytest.mark.parametrize("name", SHAPES)
@pytest.mark.parametrize("zone", ["UTC", "Atlantic/Faroe"])
def test_shapes_of_cells(tmp_path: Path, name: str, zone: str) -> None:
    same(tmp_path, SHAPES[name], zone=zone)


def test_a_wall_time_that_comes_twice_means_the_first(tmp_path: Path) -> None:
    log = log_of("started", ["2031-10-26 01:30:00", "2031-10-26 03:00:00"], {"ended": ""})
    assert same(tmp_path, log, zone="Atlantic/Faroe")[0].at.isoformat() == "2031-10-26T01:30:00+01:00"


@pytest.mark.parametrize(("column", "cells"), [
    ("took_ms", ["1500", "0.0015", "2500.5", ""]), ("duration", ["1.5", "0.1"]), ("runtime", ["350ms", "2s", "1.5"]),
])  # fmt: skip
def test_runtimes(tmp_path: Path, column: str, cells: list[str]) -> None:
    for known, missing in (("started", "ended"), ("ended", "started")):
        head = ("job", known, missing, column, "outcome")
        log = [{"job": f"j{n}", known: at(9), missing: "", column: one, "outcome": "ok"} for n, one in enumerate(cells)]
        if known == "ended" and "" in cells:
            log.pop()
        by_csv, by_json = written(tmp_path, log, head)
        assert list(told(by_csv)[0]) == list(told(by_json)[0]) == list(row_by_row(by_csv)[0])
        assert told(by_csv)[1] == told(by_json)[1] == row_by_row(by_csv)[1]


@pytest.mark.parametrize(("column", "cell", "words"), [
    ("outcome", "odd", r"log\.csv:4: unknown outcome 'odd'"), ("started", "", r"log\.csv:4: started is empty"),
    ("job", "", r"log\.csv:4: job is empty"), ("ended", "soon", r"log\.csv:4: instant 'soon' is not ISO 8601"),
    ("attempt", "first", r"log\.csv:4: the attempt is 'first'"),
    ("started", "99999999999999999999999", r"log\.csv:4: .* is too large"),
])  # fmt: skip
def test_what_cannot_be_read_is_said_with_its_line(tmp_path: Path, column: str, cell: str, words: str) -> None:
    by_csv, _ = written(tmp_path, log_of(column, [at(1), at(1)] if column in ("started", "ended") else ["1", "1"]))
    with by_csv.open("a") as file:
        row = {**log_of("job", ["j"])[0], column: cell}
        file.write(",".join(row[name] for name in HEAD) + "\n")
    for read_it in (ic.log_history, lambda path: in_columns_or_rows([path], [])):
        with pytest.raises(ic.LogError, match=words):
            read_it(by_csv)


@pytest.mark.parametrize("columns", [True, False])
def test_rows_with_other_widths_and_empty_lines(tmp_path: Path, columns: bool) -> None:
    good = f"a,charge_fare,{at(1)},{at(2)},ok"
    text = f'job,name,started,ended,outcome\n\n{good}\nx,y\n"b\n2",p,{at(1)},{at(0)},ok\n,,,,\n"x\ny",2\nx,2,3,4,5,6\n{good}\n'
    path = tmp_path / "log.csv"
    for ends in ("\n", "\r\n"):
        path.write_bytes(b"\xef\xbb\xbf" + text.replace("\n", ends).encode())
        torn: list[str] = []
        history = in_columns_or_rows([path], torn) if columns else ic.log_history(path, torn=torn)
        assert (history.jobs_in_columns(history.entry) is not None) == columns
        (job,) = World(history).job_records
        assert job.id == "a"
        assert [line.removeprefix(str(path)) for line in torn] == [
            ":4: the head has 5 columns, and this row has 2",
            ":6: it ends at 2031-03-28T10:00:00+00:00, before it starts at 2031-03-28T10:00:01+00:00; the row is left out",
            ":9: the head has 5 columns, and this row has 2",
            ":10: the head has 5 columns, and this row has 6",
            ":11: the row is the same as that of line 3; it counts once",
        ]


def test_many_bad_rows_in_several_batches(tmp_path: Path) -> None:
    rows = [
        f"j{n:06},charge_fare,{at(n % 3000)},{at(n % 3000 + 1)},ok,{'x' * 80}" if n % 5000 else f"j{n:06},bad"
        for n in range(1, 60_001)
    ]
    path = tmp_path / "log.csv"
    path.write_text("job,name,started,ended,outcome,args\n" + "\n".join(rows))
    torn: list[str] = []
    history = ic.log_history(path, torn=torn)
    assert history.jobs_in_columns(history.entry) is not None, "a large log is read in columns"
    assert len(World(history).job_records) == 60_000 - 12
    assert [line.split(":")[1] for line in torn] == [str(5000 * n + 1) for n in range(1, 13)]


@pytest.mark.parametrize("columns", [True, False])
def test_several_files_that_overlap(tmp_path: Path, columns: bool) -> None:
    def read_them(*paths: Path, torn: list[str], **how: Any) -> ic.History:
        return in_columns_or_rows(list(paths), torn, **how) if columns else ic.log_history(paths, torn=torn, **how)

    one, two = tmp_path / "one.csv", tmp_path / "two.csv"
    head = "job,started,ended,outcome\n"
    one.write_text(f"{head}a,{at(1)},{at(2)},error\nb,{at(1)},{at(2)},ok\n")
    two.write_text(f"job,outcome,started,ended\nb,ok,{at(1)},{at(2)}\na,ok,{at(3)},{at(4)}\n")
    torn: list[str] = []
    first, second = World(read_them(one, two, torn=torn)).job_records
    assert [len(first.attempts), len(second.attempts)] == [2, 1]
    assert torn == [f"{two}:2: the row is the same as that of {one}:3; it counts once"]
    lines = tmp_path / "two.jsonl"
    lines.write_text(json.dumps({"job": "b", "started": at(1), "ended": at(2), "outcome": "ok"}) + "\n")
    torn = []
    assert len(World(read_them(one, lines, torn=torn)).job_records) == 2
    assert torn == [f"{lines}:1: the row is the same as that of {one}:3; it counts once"], "also row by row"
    assert len(World(read_them(one, two, torn=[], keeps_doubles=True)).job_records[1].attempts) == 2


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(broken=st.lists(st.text('ab1,";\n\r \t\0é', max_size=12), min_size=1, max_size=4), at_line=st.integers(0, 4))
def test_damaged_files_are_read_alike_or_refused_alike(tmp_path: Path, broken: list[str], at_line: int) -> None:
    good = [f"j{n},charge_fare,{at(n)},{at(n + 1)},ok,w" for n in range(3)]
    lines = ["job,name,started,ended,outcome,worker", *good]
    if len(broken) % 2:
        lines[at_line:at_line] = broken
    else:  # inside of the last cells, as they come
        lines = [f"{line[:-1]}{text}" for line, text in zip(lines, [*broken, "w", "w", "w"], strict=False)]
    path = tmp_path / "log.csv"
    path.write_bytes("\n".join(lines).encode())

    def outcome(read_it: Callable[[], tuple[ic.History, list[str]]]) -> Any:
        try:
            history, bad = read_it()
        except ic.LogError as error:
            return str(error)
        return history.digest(), bad

    assert outcome(lambda: told(path)) == outcome(lambda: row_by_row(path))


# --- part by part ---------------------------------------------------------------------------------------

IN_PARTS = [
    "nothing_lost", "nothing_lost with an effect", "no_overlap", "finishes_within", "finishes_within of a type",
    "attempts_at_most", "attempts_at_most on an error", "once_per_key", "no_key_twice", "each",
]  # fmt: skip


def test_a_log_in_parts_breaks_the_same_laws(tmp_path: Path) -> None:
    broken = dict.fromkeys(IN_PARTS, 0)
    for seed in range(4):
        in_parts(tmp_path, likely(400, seed), broken)
    assert [name for name, times in broken.items() if not times] == ["nothing_lost"], "something is compared"


def in_parts(folder: Path, log: list[Row], broken: dict[str, int]) -> None:
    """Check laws on a log in the memory and in parts, and compare what they say."""
    table, _ = written(folder, log)
    laws = [LAWS[name]() for name in IN_PARTS]
    torn: list[list[str]] = [[], []]
    shares: list[float] = []
    whole = check_logs(table, laws, {"torn": torn[0], "bad_rows": 1})
    parts = check_logs(table, laws, {"torn": torn[1], "bad_rows": 1}, large=0, part=5_000, tell=shares.append)
    assert (whole.in_parts, parts.in_parts) == (False, True)
    assert (whole.jobs, whole.attempts) == (parts.jobs, parts.attempts)
    for name, one, other in zip(IN_PARTS, whole.found, parts.found, strict=True):
        assert [(b.words, b.proof) for b in one] == [(b.words, b.proof) for b in other], name
        broken[name] += bool(one)
    assert torn[0] == torn[1]
    assert torn[0]
    assert shares == sorted(shares)
    assert shares[-1] == 1


def test_which_laws_are_checked_in_parts(tmp_path: Path) -> None:
    table, lines = written(tmp_path, likely(50, 1))
    for name, law in LAWS.items():
        made = check_logs(table, [law()], {"bad_rows": 1}, large=0)
        assert made.in_parts == (name in [*IN_PARTS, "attempts_at_most on any error"]), name
    assert check_logs(lines, [ic.laws.no_overlap()], {"bad_rows": 1}, large=0).in_parts
    assert not check_logs(table, [ic.laws.no_overlap()], {"bad_rows": 1}, large=0, whole=True).in_parts


def test_parts_know_every_name(tmp_path: Path) -> None:
    table, _ = written(tmp_path, likely(50, 1))
    for law in (
        ic.laws.attempts_at_most("charge_fair", 2),
        ic.laws.once_per_key("chrage"),
        ic.laws.each("x", "y", bool),
    ):
        with pytest.raises(ic.SelectionError):
            check_logs(table, [law], {"bad_rows": 1}, large=0)


def test_too_many_bad_rows_in_parts(tmp_path: Path) -> None:
    table, _ = written(tmp_path, log_of("ended", [at(0)] * 20))
    with pytest.raises(ic.LogError, match=r"20 of its rows are bad, which is more than 10% of 20"):
        check_logs(table, [ic.laws.no_overlap()], {}, large=0)
    table, _ = written(tmp_path, log_of("outcome", ["ok", "odd"]))
    with pytest.raises(ic.LogError, match=r"log\.csv:3: unknown outcome 'odd'"):
        check_logs(table, [ic.laws.no_overlap()], {}, large=0)


def test_check_log(tmp_path: Path) -> None:
    log = log_of("key", ["k1", "k2", "k1"], {"effect": "charge"})
    table, _ = written(tmp_path, log)
    ic.check_log(table, ic.laws.attempts_at_most("charge_fare", 1), zone="UTC")
    with pytest.raises(ic.BrokenLaw, match="charge of 'k1' is done 2 times") as caught:
        ic.check_log(table, ic.laws.once_per_key("charge"), lambda world: ["a law of its own"])
    assert [breach.law for breach in caught.value.breaches] == ["once_per_key", "<lambda>"]
    with pytest.raises(ic.LogError, match="columns are missing"):
        ic.check_log(table, ic.laws.no_overlap(), columns={"started": "begin"})
    with pytest.raises(TypeError):
        ic.check_log(table, ic.laws.no_overlap(), columms={})
