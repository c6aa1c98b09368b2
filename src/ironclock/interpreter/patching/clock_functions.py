"""The clock functions: what `time` and `datetime` answer while a rig is entered.

Each function here has the arguments and the errors of the real one that it replaces. Naive local time follows the
rig's zone. Code that reads the clock too often while it does not move stops the run.
"""

from __future__ import annotations

import datetime as dt
import math
import operator
import sys
import threading
import time
from collections.abc import Callable, Sized
from typing import TYPE_CHECKING, Any

from ...errors import RigStateError, StuckError
from ...foundation.durations import NS
from ...foundation.source_location import called_by_library, calling
from ..running_loop import running_loop
from .builtin_patching import Builtin, private_descriptor

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop

READS_LIMIT = 1_000_000
"""After how many reads of one clock function at one instant, with nothing else happening, the code is stuck."""

SPINNING = 8_000
"""After how many reads at one instant the test's own code is taken to wait for its threads."""

READS_AT_DEADLINE = 64_000
"""After how many reads of the wall clock at one instant (of a monotonic clock: a quarter of that) the code is taken to
wait for a deadline to be past."""

EMPTY_WAITS = 100
"""After how many waits of zero seconds at one instant, with reads of the clock between, it is taken to do so."""

LEAST_STEP_NS = 1_000
"""The least time that every clock shows: `datetime` has microseconds."""

UPTIME_NS = 1_000_000 * NS
"""What the monotonic clock shows at the rig's start: a machine that has run for some days."""

NAMES = (
    "time", "time_ns", "monotonic", "monotonic_ns", "perf_counter", "perf_counter_ns",
    "sleep", "localtime", "gmtime", "ctime", "asctime", "strftime", "mktime",
    *(("clock_gettime", "clock_gettime_ns") if hasattr(time, "clock_gettime") else ()),
)  # fmt: skip
_LINUX = sys.platform == "linux"
_WALL_CLOCKS = (getattr(time, "CLOCK_REALTIME", None), 5 if _LINUX else None)
_MONOTONIC_CLOCKS = (
    getattr(time, "CLOCK_MONOTONIC", None), getattr(time, "CLOCK_BOOTTIME", None), 6 if _LINUX else None,
)  # fmt: skip
# 5 and 6 are the coarse ones, which have no names in Python
# (https://man7.org/linux/man-pages/man2/clock_gettime.2.html).
BUILTINS = {name: Builtin(getattr(time, name)) for name in NAMES}
REAL: dict[str, Callable[..., Any]] = {name: builtin.real for name, builtin in BUILTINS.items()}

_UTC = dt.timezone.utc
_EPOCH = dt.datetime(1970, 1, 1, tzinfo=_UTC)
_from_timestamp = private_descriptor(dt.datetime, "fromtimestamp")
_astimezone = dt.datetime.astimezone
_timestamp = dt.datetime.timestamp


STREAMS = ("time", "time_ns", "monotonic", "monotonic_ns")


class ByThread(threading.local):
    """For each thread, the values that its clock functions give out next. Without a rig: those of the real clock."""

    time = iter(REAL["time"], None)
    time_ns = iter(REAL["time_ns"], None)
    monotonic = iter(REAL["monotonic"], None)
    monotonic_ns = iter(REAL["monotonic_ns"], None)


by_thread = ByThread()


class ClockFunctions:
    """The clock functions of one rig. `functions` maps a name in `time` to its replacement.

    Parameters: `history` and `threads` are its entries and its simulated threads, of which only the number counts.
    `wall_clock_offset_ns` returns by how much the wall clock is wrong.
    """

    def __init__(
        self, loop: EventLoop, history: Sized, threads: Sized, wall_clock_offset_ns: Callable[[], int]
    ) -> None:
        self.loop = loop
        self._threads = threads
        self._history = history
        self._wall_clock_offset_ns = wall_clock_offset_ns
        self.coarse_ns = loop.start_ns + (1 << 23) * NS - UPTIME_NS
        """From this instant on a float of the monotonic clock cannot hold a nanosecond."""
        self._zone = loop.timeline.zone
        self._patience: tuple[int, int] = (-1, -1)
        self._sleeps = 0
        self._empty_waits: tuple[int, Any, int, int] = -1, None, 0, 0
        # When a task last waited for zero seconds; which; the values that its clocks still had; how often it did so.
        self._stepped = -NS, 0  # when the clock last moved for a deadline, and how often since it moved otherwise
        wall_s, wall_ns = self._reader(None, "time"), self._reader(None, "time_ns")
        since = self._since = UPTIME_NS - loop.start_ns
        mono_s, mono_ns = self._reader(since, "monotonic"), self._reader(since, "monotonic_ns")
        self.functions: dict[str, Callable[..., Any]] = {
            "time": wall_s, "time_ns": wall_ns, "monotonic": mono_s, "monotonic_ns": mono_ns,
            "perf_counter": mono_s, "perf_counter_ns": mono_ns, "sleep": self.sleep,
            "localtime": self.localtime, "gmtime": self.gmtime, "ctime": self.ctime,
            "asctime": self.asctime, "strftime": self.strftime, "mktime": self.mktime,
            "clock_gettime": self.clock_gettime, "clock_gettime_ns": self.clock_gettime_ns,
        }  # fmt: skip
        self.wall_ns: Callable[[], int] = wall_ns
        self._naive: tuple[int, dt.datetime] = (-1, _EPOCH)
        self._aware: tuple[int, dt.tzinfo, dt.datetime] = (-1, _UTC, _EPOCH)

    def begin(self) -> None:
        """Take the calling thread off the real clock."""
        by_thread.__dict__.update(dict.fromkeys(STREAMS, ()))
        self.loop.forget_values()

    # --- instants -----------------------------------------------------------------------------------

    def _reader(self, fixed: int | None, name: str) -> Callable[[], Any]:
        """Return a function without arguments that reads the event loop's clock, as cheaply as Python can.

        `fixed` is added to the loop's instants. None: it is the wall clock, which can jump or be wrong.
        """
        # It gives out copies of the present value from a list that the event loop empties when its clock moves: one
        # step of a list iterator both checks that the value is still right, and counts the reads.
        # There are two functions because each name that a function closes over costs time at every call.
        loop, stuck, limit, seconds = self.loop, self._stuck, READS_LIMIT, not name.endswith("_ns")
        wall_clock_offset_ns = self._wall_clock_offset_ns
        stock: list[float | int] = []
        stream = iter(stock)
        seen: int | None = None
        handed = batch = 0

        def read() -> float | int:
            for value in stream:
                return value
            return refill()

        def refill() -> float | int:
            nonlocal stream, seen, handed, batch
            if loop.now is not seen:
                seen = loop.now
                handed, batch = 0, 4
            elif handed > limit:
                handed = stuck()
            else:
                if not stock:  # its rest was forgotten, and not read
                    handed, batch = handed - batch + 1, 2
                if handed > SPINNING:
                    self._spinning(handed if fixed is None else handed * 4)
                    seen = loop.now
                batch = min(batch * 2, 1024)
            offset = wall_clock_offset_ns() if fixed is None else fixed
            value: float | int = seen + offset
            if seconds:  # in two parts: a float of so many nanoseconds would not be exact
                value = (seen + offset) // NS + (seen + offset) % NS / 1e9
            handed += batch
            stock[:] = [value] * batch
            stream = iter(stock)
            setattr(by_thread, name, stream)
            loop.values_of_instant.append(stock)
            return value

        return read

    def _stuck(self) -> int:
        """Stop the run. If something has happened since the last call, return 0 instead, to count again."""
        loop = self.loop
        progress = loop.now, len(self._history)
        if progress != self._patience:
            self._patience = progress
            return 0
        task = loop.current
        job = None if task is None else task.job
        who = f"{job.type.name} ({job.id})" if job else "the test's own code" if task is None else task.label
        error = StuckError(
            f"{who} reads the clock again and again and never lets it move, at {calling()}; the clock stays at "
            f"{loop.timeline.text(loop.now)} until the code sleeps or returns"
        )
        loop.stop(error)
        raise error

    def sleep(self, seconds: float, /) -> None:
        """Replace `time.sleep`: inside a job the others continue, in the test's own code the rig advances."""
        ns = _sleep_ns(seconds)
        loop = self.loop
        if ns == 0:
            self.waited_for_nothing(forgets=True)
            self._sleeps += 1
            if self._sleeps > READS_LIMIT // 10:
                self._sleeps = self._stuck()
        else:
            self._sleeps = 0
        if loop.current is not None:
            if loop.current.sleeps is None or not loop.current.sleeps(loop.now + ns, _never):
                loop.sleep(ns)
        elif loop.running:
            raise RigStateError(
                "a callback of the rig (a fault's predicate, a wait) cannot sleep; it must answer at once"
            )
        else:
            loop.advance_to(loop.now + ns)

    def let_pass(self, seconds: float) -> None:
        """Let the time of an asyncio loop's wait pass: at least a nanosecond, since a wait takes time."""
        ns = waiting_ns(seconds)
        loop = self.loop
        if loop.current is not None:
            loop.sleep(ns, is_seam=False)  # `asyncio.sleep` is the seam
        elif loop.running:
            raise RigStateError(
                "a callback of the rig (a fault's predicate, a wait) cannot wait; it must answer at once"
            )
        else:
            loop.advance_to(loop.now + ns)

    def skip(self, asyncio_loops: list[Any]) -> None:
        """Let time pass until the next timer of these asyncio loops, or the next event of the rig."""
        loop = self.loop
        timers = [one._scheduled[0]._when for one in asyncio_loops if getattr(one, "_scheduled", None)]
        dues = [math.ceil(min(timers) * NS) - self._since] if timers else []
        due = loop.next_due_ns
        if due is not None and loop.current is None:
            dues.append(due)
        if dues:
            self.let_pass((min(dues) - loop.now) / NS)

    def _spinning(self, reads: int) -> None:
        """Do something for code that reads the clock again and again: it waits for others to act, or for a deadline."""
        loop = self.loop
        if loop.current is None and not loop.running:
            if self._threads:
                loop.advance_to(loop.now)  # one of its threads
            asyncio_loop = running_loop()
            if asyncio_loop is not None and not self.step_past_deadline():
                self.skip([asyncio_loop])
        if reads > READS_AT_DEADLINE:
            self.step_past_deadline(called_by_library())  # `queue.Queue.get`, say

    def waited_for_nothing(self, forgets: bool = False) -> None:
        """Note a wait of zero seconds that brought nothing. Code that reads the clock and waits so again and again
        waits for a deadline to be past, not only reached.

        Parameters: `forgets` is True if the values of this instant are forgotten after it.
        """
        loop, left = self.loop, sum(operator.length_hint(getattr(by_thread, name)) for name in STREAMS)
        at, task, values_left, times = self._empty_waits
        if at != loop.now or task is not loop.current:
            times = 0
        elif left != values_left:
            times += 1
        if times > EMPTY_WAITS:
            times = 0
            self.step_past_deadline()
        self._empty_waits = loop.now, loop.current, 0 if forgets else left, times

    def step_past_deadline(self, may_end_run: bool = True) -> bool:
        """Let the least time pass that each clock shows: what ends by a deadline, ends. Return False after three times:
        then it is no deadline.

        Parameters: `may_end_run` is False if a task cannot wait for what comes after the present run.
        """
        loop = self.loop
        if loop.current is None and loop.running:
            return False
        if loop.current is not None and not may_end_run and loop.now + LEAST_STEP_NS > loop.until_ns:
            return False
        if loop.now - self._stepped[0] > 10 * LEAST_STEP_NS:
            self._stepped = loop.now, 0
        if self._stepped[1] == 3:
            return False
        self._stepped = loop.now + LEAST_STEP_NS, self._stepped[1] + 1
        self.let_pass(LEAST_STEP_NS / NS)
        return True

    def clock_gettime(self, which: int, /) -> float:
        return float(self._clock(which, ""))

    def clock_gettime_ns(self, which: int, /) -> int:
        return int(self._clock(which, "_ns"))

    def _clock(self, which: int, unit: str) -> Any:
        if which in _WALL_CLOCKS and called_by_library():
            return self.functions[f"time{unit}"]()
        if which in _MONOTONIC_CLOCKS and called_by_library():
            return self.functions[f"monotonic{unit}"]()
        return self.real_clock(f"clock_gettime{unit}", which)

    def real_clock(self, name: str, which: int) -> Any:
        """Read a clock that stays real: for code of the test and the application this is the door to the real clock."""
        return REAL[name](which)

    # --- time.* over struct_time --------------------------------------------------------------------

    def localtime(self, seconds: float | None = None, /) -> time.struct_time:
        moment = self._moment(seconds)
        offset = moment.utcoffset() or dt.timedelta()
        extra: Any = {"tm_zone": moment.tzname(), "tm_gmtoff": int(offset.total_seconds())}
        return time.struct_time(tuple(moment.timetuple()), extra)

    def _moment(self, seconds: float | None) -> dt.datetime:
        whole = self.wall_ns() // NS if seconds is None else math.floor(seconds)
        return _astimezone(_EPOCH + dt.timedelta(seconds=whole), self._zone)

    def gmtime(self, seconds: float | None = None, /) -> time.struct_time:
        result: time.struct_time = REAL["gmtime"](self.wall_ns() // NS if seconds is None else seconds)
        return result

    def ctime(self, seconds: float | None = None, /) -> str:
        return str(REAL["asctime"](self.localtime(seconds)))

    def asctime(self, *moment: Any) -> str:
        return str(REAL["asctime"](*(moment or (self.localtime(),))))

    def strftime(self, form: str, *moment: Any) -> str:
        return str(REAL["strftime"](form, *(moment or (self.localtime(),))))

    def mktime(self, moment: Any, /) -> float:
        year, month, day, hour, minute, second, _, _, dst = moment
        carry, month = divmod(month - 1, 12)
        wall = dt.datetime(year + carry, month + 1, 1) + dt.timedelta(
            days=day - 1, hours=hour, minutes=minute, seconds=second
        )
        chosen = first = wall.replace(tzinfo=self._zone)
        second_pass = first.replace(fold=1)
        if dst >= 0 and bool(first.dst()) != bool(dst) and bool(second_pass.dst()) == bool(dst):
            chosen = second_pass
        return float((_astimezone(chosen, _UTC) - _EPOCH).total_seconds())

    # --- datetime and date --------------------------------------------------------------------------

    def now(self, cls: type[dt.datetime], tz: dt.tzinfo | None = None) -> dt.datetime:
        ns = self.wall_ns()
        if tz is None:
            at, kept = self._naive
            if at != ns:
                kept = _astimezone(_EPOCH + dt.timedelta(microseconds=ns // 1_000), self._zone).replace(tzinfo=None)
                self._naive = ns, kept
            return kept if cls is dt.datetime else _recast(cls, kept)
        if not isinstance(tz, dt.tzinfo):
            raise TypeError(f"tzinfo argument must be None or of a tzinfo subclass, not type '{type(tz).__name__}'")
        if cls is dt.datetime:
            at, zone, kept = self._aware
            if at != ns or zone is not tz:
                kept = _astimezone(_EPOCH + dt.timedelta(microseconds=ns // 1_000), tz)
                self._aware = ns, tz, kept
            return kept
        return _recast(cls, _astimezone(_EPOCH + dt.timedelta(microseconds=ns // 1_000), tz))

    def utcnow(self, cls: type[dt.datetime]) -> dt.datetime:
        naive = self.now(dt.datetime, _UTC).replace(tzinfo=None)
        return naive if cls is dt.datetime else _recast(cls, naive)

    def today(self, cls: type[dt.date]) -> dt.date:
        if cls is dt.date:
            return self.now(dt.datetime).date()
        if issubclass(cls, dt.datetime):
            return cls.now()
        return cls.fromtimestamp(self.wall_ns() / 1e9)

    def fromtimestamp(self, cls: type[dt.datetime], timestamp: float, tz: dt.tzinfo | None = None) -> dt.datetime:
        if tz is not None:
            found: dt.datetime = _from_timestamp.__get__(None, cls)(timestamp, tz)
            return found
        local = _from_timestamp.__get__(None, dt.datetime)(timestamp, self._zone).replace(tzinfo=None)
        return local if cls is dt.datetime else _recast(cls, local)

    def date_fromtimestamp(self, cls: type[dt.date], timestamp: float) -> dt.date:
        local = self._moment(timestamp)
        return cls(local.year, local.month, local.day)

    def timestamp(self, moment: dt.datetime) -> float:
        return _timestamp(moment.replace(tzinfo=self._zone) if moment.tzinfo is None else moment)

    def astimezone(self, moment: dt.datetime, tz: dt.tzinfo | None = None) -> dt.datetime:
        if moment.tzinfo is None or moment.utcoffset() is None:
            moment = moment.replace(tzinfo=self._zone)
        if tz is None:  # the platform's own answer is a fixed offset, too
            local = _astimezone(moment, self._zone)
            tz = dt.timezone(local.utcoffset() or dt.timedelta(), local.tzname() or "")
        return _astimezone(moment, tz)


def _recast(cls: type[dt.datetime], moment: dt.datetime) -> dt.datetime:
    made = cls(
        moment.year, moment.month, moment.day, moment.hour, moment.minute, moment.second, moment.microsecond,
        moment.tzinfo,
    )  # fmt: skip
    return made.replace(fold=1) if moment.fold else made


def waiting_ns(seconds: float) -> int:
    """Return a wait in whole nanoseconds, never less than was asked for.

    With less, a caller that reads a float of the clock after it would see a rest that is too short to wait for.
    """
    return max(1, math.ceil(seconds * 1e9 - 1e-3)) if seconds > 0 else 0


def _sleep_ns(seconds: Any) -> int:
    if isinstance(seconds, float):
        if math.isnan(seconds):
            raise ValueError("Invalid value NaN (not a number)")
        if math.isinf(seconds):
            raise OverflowError("timestamp too large to convert to C PyTime_t")
        ns = math.ceil(seconds * 1e9 - 1e-3)
    else:
        ns = operator.index(seconds) * NS
    if ns < 0:
        raise ValueError("sleep length must be non-negative")
    return ns


def _never() -> bool:
    return False
