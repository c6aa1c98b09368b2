"""Laws on the logs of real runs: in the memory; or, if a log is large and the laws allow it, part by part."""

from __future__ import annotations

import tempfile
import time
import warnings
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from operator import itemgetter
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

from ..errors import RigWarning, must_be_keywords
from ..foundation.paused_collector import paused_collector
from ..history.history import History
from ..history.log_histories import LogKeywords, has_arrow, log_history, places_of
from ..history.log_rows import Reading
from ..history.log_sources import size_of
from .law import Breach, BrokenLaw, Law, StatedLaw, World, broken_by, name_of_law, shown

if TYPE_CHECKING:
    from ..history.log_parts import OpenLog

LARGE = 256_000_000
"""The size of a log in bytes from which it is checked part by part."""
PART = 32_000_000
"""About the size of a part in bytes."""
_MOST_PARTS = 256

Logs = str | PathLike[str] | Sequence[str | PathLike[str]]


@dataclass
class CheckedLog:
    """What laws say about a log."""

    history: History
    """The history of the log. Empty, if it was checked part by part."""
    found: list[list[Breach]]
    """By a law, its breaches."""
    seconds: list[float]
    """By a law, how long it took."""
    judged: list[bool]
    """By a law, if it had anything to judge."""
    jobs: int = 0
    attempts: int = 0
    in_parts: bool = False


def check_log(path: Logs, *laws: Law, strict: bool = False, **how: Unpack[LogKeywords]) -> None:
    """Check laws on the log of a real run.

    Parameters: `path` and all other keywords (`how`) are as in `log_history`; `laws` are `ironclock.laws` or functions
    of the world. `strict`: a law that had nothing to judge is an error. Default False: it is a `RigWarning`. A log of
    more than 256 MB is not held in the memory, if its laws look at each job or at each key for itself:
    attempts_at_most, each, finishes_within, no_key_twice, no_overlap (of each job), nothing_lost, once_per_key.

    Raises `BrokenLaw`, with every breach and its proof, and `LogError`.

    Example::

        ic.check_log("friday.csv", ic.laws.once_per_key("charge"), zone="Atlantic/Faroe")
    """
    checked = check_logs(path, laws, dict(how))
    breaches = [breach for found in checked.found for breach in found]
    if breaches:
        raise BrokenLaw(shown(breaches, checked.history), breaches)
    idle = [name_of_law(law) for law, judged in zip(laws, checked.judged, strict=True) if not judged]
    if idle:
        words = (
            f"{' and '.join(idle)} had nothing to judge in {path}; give the column that tells of it, as in "
            "columns={'effect': ...}, or take the law away"
        )
        if strict:
            raise BrokenLaw(words, [])
        warnings.warn(words, RigWarning, stacklevel=2)


def check_logs(
    path: Logs, laws: Sequence[Law], how: Mapping[str, Any], *, whole: bool = False, large: int = LARGE,
    part: int = PART, tell: Callable[[float], None] | None = None,
) -> CheckedLog:  # fmt: skip
    """Return what laws say about a log.

    Parameters: `path` and `how` are as in `log_history`; `whole`: the history is needed as well; `large` is the size in
    bytes from which the log is checked in parts of the size `part`, if the laws allow it; `tell` is called with the
    share that is done, in such a check. Raises `LogError`.
    """
    options = dict(how)
    must_be_keywords(options, LogKeywords)
    places = places_of(path, options.get("query"))
    in_parts = not whole and options.get("query") is None and options.get("encoding") is None
    allowed = in_parts and has_arrow() and all(map(_reach_of, laws))
    if allowed and size_of(places) >= large:
        found = _Parts(places, laws, options, part, tell or (lambda share: None)).checked()
        if found is not None:
            return found
    return check_history(lambda: log_history(path, **options), laws)


def check_history(read: Callable[[], History], laws: Sequence[Law]) -> CheckedLog:
    """Return what laws say about the history that `read` returns."""
    with paused_collector():
        history = read()
        world = World(history)
        checked = CheckedLog(history, [], [], [])
        for law in laws:
            began = time.perf_counter()
            checked.found.append(broken_by([law], world, lambda _, judged: checked.judged.append(judged)))
            checked.seconds.append(time.perf_counter() - began)
    checked.jobs, checked.attempts = history.count_of("enqueued"), history.count_of("started")
    return checked


def _reach_of(law: Law) -> str:
    """Return what a law has to see at once; empty if it is the whole log."""
    reach = getattr(law, "reach", "all")
    return "" if reach == "all" else reach


@dataclass
class _Parts:
    """A check of a log that is not held in the memory."""

    places: Sequence[str]
    laws: Sequence[Law]
    how: dict[str, Any]
    part: int
    tell: Callable[[float], None]

    def checked(self) -> CheckedLog | None:
        """Return what the laws say. None if the log must be read row by row."""
        from ..history.log_batches import NotInColumns
        from ..history.log_parts import opened_log

        how = {name: value for name, value in self.how.items() if name in Reading.__annotations__}
        place = self.how.get("delimiter"), None, self.how.get("guessed")
        try:
            with (
                paused_collector(),
                tempfile.TemporaryDirectory(prefix="ironclock-") as folder,
                opened_log(self.places, Reading.of(**how), *place) as log,
            ):
                return self._check(log, Path(folder))
        except NotInColumns:
            return None

    def _check(self, log: OpenLog, folder: Path) -> CheckedLog | None:
        from ..history.log_parts import SplitLog, in_order, rows_of_jobs

        size = max(1, log.size)
        count = min(_MOST_PARTS, 1 + size // self.part)
        made = CheckedLog(
            History(log.timeline),
            [[] for _ in self.laws],
            [0.0] * len(self.laws),
            [False] * len(self.laws),
            in_parts=True,
        )
        placed: list[list[tuple[Any, Breach]]] = [[] for _ in self.laws]
        asked = [law.keys_of for law in self.laws if isinstance(law, StatedLaw) and law.reach == "key"]
        keyed = None if any(name is None for name, _ in asked) else {str(name) for name, _ in asked}
        split = SplitLog(log, folder, count, keyed, {str(name) for name, counts in asked if counts})
        split.write(lambda done: self.tell(0.7 * min(1.0, done / size)))
        if any(name is not None and name not in split.effects for name, _ in asked):
            return None  # it is about the keys of jobs, and not of effects
        suspects = split.jobs_with_doubled_keys()
        kept = []
        for number, (table, order) in enumerate(split.parts(), 1):
            columns = split.columns(table, order)
            made.jobs += len(columns.begin)
            made.attempts += len(columns.codes)
            self._judge("job", split.history(columns), made, placed)
            if len(suspects):
                kept.append(rows_of_jobs(table, suspects))
            self.tell(0.7 + 0.3 * number / count)
        if not made.attempts:
            return None
        few = in_order(kept)
        self._judge("key", split.history(None if few is None else split.columns(*few)), made, placed)
        for number, breaches in enumerate(placed):
            breaches.sort(key=itemgetter(0))
            made.found[number] = [breach for _, breach in breaches]
        told = log.told()
        torn = self.how.get("torn")
        if torn is not None:
            torn += told
        return made

    def _judge(self, reach: str, history: History, made: CheckedLog, placed: list[list[tuple[Any, Breach]]]) -> None:
        """Find the breaches of the laws of this reach, each with its place in the log."""
        world = World(history)
        for number, law in enumerate(self.laws):
            if _reach_of(law) == reach:
                began = time.perf_counter()
                judged: list[bool] = []
                breaches = broken_by([law], world, lambda _, seen, judged=judged: judged.append(seen))  # type: ignore[misc]
                # Of a law about keys only those come here that were there twice.
                made.judged[number] |= judged[0] or (reach == "key" and made.attempts > 0)
                if breaches:
                    where = world.places_in_log()
                    for count, breach in enumerate(breaches):
                        first = breach.proof[0]
                        # A law that reads effects goes through them, and not through the jobs.
                        at = (first.ns, 0, 0) if first.what == "effect" else where.get(str(first.job), (first.ns, 0, 0))
                        placed[number].append(((*at, count), breach))
                made.seconds[number] += time.perf_counter() - began
