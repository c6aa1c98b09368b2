"""Waits for something outside the simulation: one rule of time for sockets, files, processes, databases and calls.

A task that waits for something real is *outside*. While it waits, the other tasks go on in simulated time.

1. A wait that nothing real ends lasts simulated time, and ends at its own simulated deadline.
2. An answer that comes quickly takes no simulated time: before the clock moves, everything outside gets a real grace.
3. A deadline does not expire while a request is unanswered, until real patience is used up.
4. While something real is waited for, simulated time goes no faster than real time, until the grace is used up.
5. If only code of this rig can end a wait, it gets no grace at all: nothing real can come.

How long the graces are depends on what is known of the wait (`Kind`). A request that has kept the rig waiting for
nothing gets a quarter of its grace the next time.
"""

from __future__ import annotations

import _socket
import select
import socket
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from ...errors import RigStateError, StuckError
from ...foundation.durations import NS
from ...foundation.source_location import waiting_at
from ..patching.clock_functions import REAL
from ..patching.real_functions import real_poll, real_register
from ..patching.system import has_unsent

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ...simulation.task import Task

IN_PLACE_S = 0.25
"""How long a request waits for its answer, in real seconds, before other tasks of the same instant run."""

IN_ORDER_S = 0.1
"""How long an answer waits, in real seconds, for the answer of a request that was made earlier."""

ASK_AFTER_S = 0.03
"""After how many real seconds a wait is asked for its reason."""

RENEWED_S = 0.03
"""The grace of a listener after its server has answered somebody else of this rig. Half of it the next time, if nothing
came."""

LEAST_RENEWED_S = 0.002

_IN_FLIGHT_S = 0.5  # how long something that was written can be on its way between two sockets of this process
_LEAST_S = 1e-4  # a rest that is shorter is none: a float of the clock cannot hold a much shorter one
_STEP_MS = 1  # between two looks at something that cannot be polled
_NOTHING_LEFT_S = 4.0  # the grace of a request if no event is pending: nothing simulated could end its wait

_TURNS_OF_PROXY = 4  # it wakes up, asks, is answered, and answers
_family_of = _socket.socket.family.__get__
_real_time = REAL["monotonic"]


class Kind(NamedTuple):
    """What can be expected of a wait, in real seconds."""

    grace_s: float
    """How long the clock pauses for it."""
    patience_s: float
    """How long its own deadline pauses for it, if the deadline is not shorter than that."""
    in_place_s: float = 0.0
    """How long no other task runs."""


IDLE = Kind(0.02, 0.02)
"""Nothing was asked: a listener, a subscriber, a pipe of this process."""
ASKED = Kind(2.0, 10.0, IN_PLACE_S)
"""A request was sent, and nothing has been received since."""
ANSWERED = Kind(2.0, 2.0)
"""Something was received since the last request; more may follow."""
PROCESS = Kind(20.0, 20.0)
"""A child process works, in real time."""
SIGNALS = Kind(2.0, 2.0)
"""A signal of a child process could end the wait."""
THREADS = Kind(0.05, 0.05)
"""Real threads run beside the rig, and could end the wait."""
CALL = Kind(2.0, 10.0, IN_PLACE_S)
"""A call on a helper thread runs, in real time."""
INSIDE = Kind(0.0, 0.0)
"""Only code of this rig can end the wait."""


UNKNOWN = "unknown"


class Exchange:
    """What is known of the exchange over one file descriptor, or with anything else that a task waits for."""

    __slots__ = (
        "answer_now",
        "begins",
        "ended_by_server",
        "find_peer",
        "foreign",
        "from_proxy",
        "grace_scale",
        "in_vain",
        "inode",
        "inside",
        "is_of_proxy",
        "kind",
        "only_we_end_it",
        "patience_scale",
        "peer",
        "reader",
        "renewals",
        "sends",
        "server",
        "settle",
        "shape",
        "since_ns",
        "timer",
        "traffic",
        "waited_s",
    )  # fmt: skip

    def __init__(self, kind: Kind, shape: Any) -> None:
        self.kind = kind
        self.shape = shape
        """What is alike in requests of the same sort: the first bytes of the request, say."""
        self.since_ns = 0
        """When it was asked for, in simulated time."""
        self.waited_s = 0.0
        """Real seconds that the rig has waited for it since then."""
        self.in_vain = False
        """True if its grace was used up, and nothing came."""
        self.grace_scale = self.patience_scale = 1.0
        self.inode = -1
        self.foreign = -1
        """How many sockets code of the rig had opened when none of them was the other end."""
        self.answer_now: Callable[[Any], None] | None = None
        """Lets a proxy of the rig answer at once. None: there is no proxy, or it has not accepted yet."""
        self.sends = 0
        """How often something was sent since something was received."""
        self.peer: Any = None
        """The other end, if it is in this rig."""
        self.inside: Exchange | None = None
        """The same descriptor while only code of this rig can answer."""
        self.find_peer: Callable[[], Any] | None = None
        """Looks for it, if it was not accepted yet."""
        self.reader: OutsideWait | None = None
        self.only_we_end_it: Callable[[], bool] | None = None
        """Asks, after a first moment, if nothing but code of this rig can end the wait. None: nobody knows."""
        self.begins: Callable[[Exchange], None] | None = None
        """Called when it begins again: a request was sent, or something was received."""
        self.server: Any = UNKNOWN
        """The address of the other end. None if it has none."""
        self.settle: Callable[[], None] | None = None
        """Returns when what the server has to send here on its own account is there. None: nobody can say."""
        self.timer: Any = None
        """The timer of the server that ends the request. None if it has none."""
        self.ended_by_server = False
        """True if such a timer was over: the answer is there."""
        self.from_proxy = False
        """True if a proxy of the rig answers, which needs a turn for that."""
        self.is_of_proxy = False
        """True if a proxy of the rig asks."""
        self.renewals = 0
        """How often its grace was renewed since something came."""
        self.traffic = -1
        """How many answers of that server had come when the wait last ended without an answer."""


class OutsideWait:
    """One wait of one task. Parameters: `fds` are descriptors with their events as in `select.poll`; `look` returns
    True if what is waited for is there, for what cannot be polled; `until_ns` is the simulated deadline."""

    __slots__ = ("exchanges", "fds", "look", "ready", "task", "until_ns", "what")

    def __init__(
        self, what: str, exchanges: Sequence[Exchange], fds: Sequence[tuple[int, int]] = (),
        look: Callable[[], Any] | None = None, until_ns: int | None = None,
    ) -> None:  # fmt: skip
        self.what = what
        self.exchanges = exchanges
        self.fds = fds
        self.look = look
        self.until_ns = until_ns
        self.task: Task | None = None
        self.ready = False

    def is_ready(self) -> bool:
        """Return True if what it waits for is there, as last seen."""
        return self.ready


class OutsideWaits:
    """The waits of one rig for something outside.

    Parameters: `stuck_after_s` is how many real seconds a run can wait outside before it ends with an error.
    """

    def __init__(self, loop: EventLoop, stuck_after_s: float) -> None:
        self._loop = loop
        self.stuck_after_s = stuck_after_s
        self._waits: list[OutsideWait] = []
        self._before_next_move: Callable[[], None] | None = None
        self._grace_scales: dict[Any, float] = {}
        self._patience_scales: dict[Any, float] = {}
        # By shape: less than 1 if such a request has kept the rig waiting for nothing.
        self.traffic: dict[Any, int] = {}
        """How many answers each server has given to code of this rig."""
        self.settles: dict[Any, Callable[[], None]] = {}
        """By server: what returns when all that it has sent is there. Nobody waits for the others."""
        self._settled: dict[Any, int] = {}
        # By server: its traffic when it was last asked.
        self.looks = 0
        """How often something real was looked at: the watchdog sees that the run moves."""
        self.looks_for_real = False
        """True while real time passes in a look, which has its own limit."""

    # --- waiting ------------------------------------------------------------------------------------

    def wait(self, wait: OutsideWait, looked: bool = False) -> bool:
        """Wait until it is ready, at most until its deadline; return True if it is ready.

        Parameters: `looked` is True if the caller has just seen that it is not.

        Raises `RigStateError` in a callback of the rig, and `StuckError` if nothing can end the wait.
        """
        loop = self._loop
        if self._settle([wait]):
            looked = False
        if not looked and self._look([wait], 0.0):
            self._answered(wait)
            return True
        if wait.until_ns is not None and wait.until_ns <= loop.now:
            return False
        task = wait.task = loop.current
        if task is None and loop.running:
            return self._wait_in_callback(wait)
        if task is not None and task.deadline_ns >= 0 and (wait.until_ns is None or task.deadline_ns < wait.until_ns):
            deadline: int | None = task.deadline_ns
        else:
            deadline = wait.until_ns
        in_place = 0.0
        for exchange in wait.exchanges:
            if exchange.kind.in_place_s:
                left = exchange.kind.in_place_s * exchange.grace_scale - exchange.waited_s
                in_place = max(in_place, left if exchange.only_we_end_it is None else min(left, ASK_AFTER_S))
        if in_place > 0:
            if deadline is not None:
                in_place = min(in_place, (deadline - loop.now) / NS)
            if self._look([wait], in_place):
                self._answered(wait)
                return True
        until, wait.until_ns = wait.until_ns, deadline
        if (
            deadline is not None
            and deadline == until
            and self._rest(wait, deadline) < _LEAST_S
            and loop.pass_idle_time(deadline)
        ):
            self._note_in_vain(wait, True)
            return False
        self._waits.append(wait)
        loop.before_time_moves = self._before_time_moves
        try:
            if task is None and until is None:
                loop.wait(self.within_reason(wait.is_ready, wait.what), None)
            else:
                loop.wait(wait.is_ready, until)
        finally:
            self._waits.remove(wait)
            if not self._waits and self._before_next_move is None:
                loop.before_time_moves = None
        if not wait.ready and until is None and task is None and not self._look([wait], 0.0):
            raise StuckError(self._stuck([wait]))
        if not wait.ready and task is not None and any(exchange.from_proxy for exchange in wait.exchanges):
            for _ in range(_TURNS_OF_PROXY):  # its answer can come at the very instant of the deadline
                self._look([*self._waits, wait], 0.0)
                loop.give_way()
                if self._look([wait], 0.0):
                    return True
        if not wait.ready and any(exchange.ended_by_server for exchange in wait.exchanges):
            return self._look([wait], 0.0)  # the server's timer and the client's end at the same instant
        return wait.ready

    def _wait_in_callback(self, wait: OutsideWait) -> bool:
        """Wait for real: code that the loop itself calls can ask a database, but simulated time pauses for it."""
        real_s = min(self._rest(wait, None), self.stuck_after_s)
        if real_s > 0 and self._look([wait], real_s):
            return True
        raise RigStateError(
            f"a callback of the rig (a fault's predicate, a wait) waits in {wait.what}, at {waiting_at()}, for what "
            "only other code of the rig can do; it must answer at once"
        )

    def within_reason(self, ready: Callable[[], Any], what: str) -> Callable[[], Any]:
        """Return a `ready` for a wait of the test without a limit. It raises `StuckError` if that lasts too long.

        Simulated time that costs much real time and brings nothing does not end: a thread that polls, for example.
        """
        loop, began_ns, began_s = self._loop, self._loop.now, _real_time()

        def ready_or_stuck() -> Any:
            answer = ready()
            if not answer and loop.now - began_ns > 86_400 * NS and _real_time() - began_s > self.stuck_after_s:
                raise StuckError(
                    f"the test waits for {what}, {self.where_the_test_stands()}, since "
                    f"{loop.timeline.text(began_ns)}, and a day of simulated time has brought nothing; give the call a "
                    "timeout, end it from a job or a thread of the rig, or raise stuck_after "
                    f"(now {self.stuck_after_s:g} s)"
                )
            return answer

        return ready_or_stuck

    def wait_for(self, what: str, kind: Kind, look: Callable[[], Any], until_ns: int | None = None) -> bool:
        """Wait for something that cannot be polled, at most until an instant; return True if `look()` is true."""
        return self.wait(OutsideWait(what, [self.exchange(kind, what)], (), look, until_ns))

    def forget(self) -> None:
        """Forget every wait: in a child process they belong to the parent."""
        self._waits.clear()
        self._loop.before_time_moves = None

    # --- how long -----------------------------------------------------------------------------------

    def exchange(self, kind: Kind, shape: Any) -> Exchange:
        """Return a new exchange."""
        made = Exchange(kind, shape)
        self.restart(made, kind, shape)
        return made

    def lasting(self, kind: Kind, shape: Any) -> Exchange:
        """Return an exchange that begins anew with each wait. Its grace does not become shorter for ever."""
        made = self.exchange(kind, shape)
        made.grace_scale = max(made.grace_scale, 0.02)
        return made

    def restart(self, exchange: Exchange, kind: Kind, shape: Any) -> None:
        """Begin an exchange again: a request was sent, or something was received."""
        self._loop.requests += 1
        exchange.kind = kind
        exchange.shape = shape
        exchange.since_ns = self._loop.now
        exchange.waited_s = 0.0
        exchange.in_vain = False
        exchange.ended_by_server = False
        exchange.renewals = 0
        if exchange.timer is not None:
            exchange.timer.state = "withdrawn"  # the event loop drops it
            exchange.timer = None
        exchange.grace_scale = self._grace_scales.get((kind, shape), 1.0) if self._grace_scales else 1.0
        exchange.patience_scale = self._patience_scales.get((kind, shape), 1.0) if self._patience_scales else 1.0
        if exchange.begins is not None:
            exchange.begins(exchange)

    def _rest(self, wait: OutsideWait, at: int | None) -> float:
        """Return how long the clock pauses for a wait, in real seconds, before it moves to an instant."""
        rest = 0.0
        for exchange in wait.exchanges:
            kind = exchange.kind
            if kind is INSIDE:
                if exchange.peer is None and exchange.find_peer is not None:
                    exchange.peer = exchange.find_peer()
                if exchange.peer is not None and _in_flight(exchange.peer):
                    rest = max(rest, _IN_FLIGHT_S - exchange.waited_s)
                continue
            limit = kind.grace_s * exchange.grace_scale
            if wait.until_ns is not None:
                asked_for_s = (wait.until_ns - exchange.since_ns) / NS
                limit = min(limit, asked_for_s)
                if at is not None and at >= wait.until_ns:
                    limit = max(limit, min(asked_for_s, kind.patience_s) * exchange.patience_scale)
            elif kind.grace_s >= 1 and not self._loop.heap:
                limit = max(limit, _NOTHING_LEFT_S * exchange.grace_scale)
            if at is not None:
                # No longer than it would take in real time: what comes first there, comes first here.
                limit = min(limit, max(IN_PLACE_S, (at - exchange.since_ns) / NS))
            left = min(limit, self.stuck_after_s) - exchange.waited_s
            if left > 0 and exchange.only_we_end_it is not None and exchange.waited_s >= ASK_AFTER_S:
                left = 0.0 if exchange.only_we_end_it() else left
            elif left <= 0 and exchange.server not in (None, UNKNOWN):
                left = self._renewed(exchange)
            rest = max(rest, left)
        return rest

    def _renewed(self, exchange: Exchange) -> float:
        """Return the grace of a wait in vain: what another task has just asked of its server can have ended it."""
        traffic = self.traffic.get(exchange.server, 0)
        if exchange.traffic == traffic or exchange.server in self.settles or exchange.settle is not None:
            return 0.0
        exchange.traffic = traffic
        exchange.renewals += 1
        return max(LEAST_RENEWED_S, RENEWED_S * 0.5 ** (exchange.renewals - 1))

    def before_next_move(self, look: Callable[[], None]) -> None:
        """Call something once, as soon as nothing is left to do at this instant."""
        self._before_next_move = look
        self._loop.before_time_moves = self._before_time_moves

    def _before_time_moves(self, at: int | None) -> bool:
        if self._before_next_move is not None:
            look, self._before_next_move = self._before_next_move, None
            look()
            if not self._waits:
                self._loop.before_time_moves = None
                return False
        for wait in [wait for wait in self._waits if wait.task is not None and wait.task.has_ended]:
            self._waits.remove(wait)  # its task was ended without handlers
        waits = [wait for wait in self._waits if not wait.ready]
        self._settle(waits)
        if self._look(waits, 0.0):
            self._in_order(waits)
            return True
        stood = 0.0
        while waits:
            rest = max(self._rest(wait, at) for wait in waits)
            if at is None and not self._only_inside(waits):
                rest = self.stuck_after_s - stood
                if rest <= 0:
                    raise StuckError(self._stuck(waits))
            rest = min(rest, self.stuck_after_s)
            if rest < _LEAST_S:
                break
            if rest > ASK_AFTER_S and any(e.only_we_end_it is not None for wait in waits for e in wait.exchanges):
                rest = ASK_AFTER_S
            began = _real_time()
            if self._look(waits, rest):
                for wait in waits:
                    if wait.ready:
                        self._answered(wait)
                self._in_order(waits)
                return True
            stood += _real_time() - began
        for wait in waits:
            self._note_in_vain(wait, at is not None and wait.until_ns is not None and at >= wait.until_ns)
        return False

    def _settle(self, waits: Iterable[OutsideWait]) -> bool:
        """Let each server that has answered somebody since it was last asked send the others what is theirs. Return
        True if one was asked."""
        asked = False
        for wait in waits:
            for exchange in wait.exchanges:
                traffic = self.traffic.get(exchange.server, 0)
                if exchange.settle is not None:
                    if exchange.traffic != traffic and exchange.kind.in_place_s == 0:
                        exchange.traffic = traffic
                        exchange.settle()
                        asked = True
                elif self.settles:
                    settle = self.settles.get(exchange.server)
                    if settle is not None and self._settled.get(exchange.server) != traffic:
                        self._settled[exchange.server] = traffic
                        settle()
                        asked = True
        return asked

    def _note_in_vain(self, wait: OutsideWait, expires: bool) -> None:
        for exchange in wait.exchanges:
            if exchange.kind is INSIDE:
                continue
            key = exchange.kind, exchange.shape
            if not exchange.in_vain:
                exchange.in_vain = True
                self._grace_scales[key] = exchange.grace_scale / 4
            if expires:
                self._patience_scales[key] = exchange.patience_scale / 4

    def _only_inside(self, waits: Iterable[OutsideWait]) -> bool:
        return all(exchange.kind is INSIDE for wait in waits for exchange in wait.exchanges)

    def _in_order(self, waits: list[OutsideWait]) -> None:
        """Let the answer of an earlier request come first, so that the order is the same on a busy machine."""
        last = max(index for index, wait in enumerate(waits) if wait.ready)
        rests = [(wait, self._rest(wait, None)) for wait in waits[:last] if not wait.ready]
        earlier = [wait for wait, rest in rests if rest > 0]
        if earlier:
            # A proxy listens all the time for clients that do not.
            by_proxy = all(any(exchange.is_of_proxy for exchange in wait.exchanges) for wait in earlier)
            self._look(earlier, min(IN_ORDER_S, max(rest for _, rest in rests)) if by_proxy else IN_ORDER_S)

    def _answered(self, wait: OutsideWait) -> None:
        for exchange in wait.exchanges:
            if exchange.server not in (None, UNKNOWN):
                self.traffic[exchange.server] = self.traffic.get(exchange.server, 0) + 1
            if not exchange.in_vain and exchange.grace_scale < 1:
                self._grace_scales.pop((exchange.kind, exchange.shape), None)
                self._patience_scales.pop((exchange.kind, exchange.shape), None)

    # --- looking ------------------------------------------------------------------------------------

    def _look(self, waits: list[OutsideWait], seconds: float) -> bool:
        """Look at what waits are for, at most so many real seconds; mark those that are ready. True if any is."""
        found = False
        self.looks += 1
        polled: dict[int, list[OutsideWait]] = {}
        events: dict[int, int] = {}
        looking = []
        for wait in waits:
            if wait.ready:
                found = True
                continue
            if wait.look is not None:
                if wait.look():
                    found = wait.ready = True
                    continue
                looking.append(wait)
            for fd, wanted in wait.fds:
                polled.setdefault(fd, []).append(wait)
                events[fd] = events.get(fd, 0) | wanted
        if found:
            seconds = 0.0
        poll = select.poll()
        for fd, wanted in events.items():
            real_register(poll, fd, wanted)
        if seconds <= 0:
            return self._mark(poll, 0, polled) or found
        begin = _real_time()
        end = begin + seconds
        self.looks_for_real = True
        stepwise = any(not wait.fds for wait in looking)
        now = begin
        while not found and now < end:
            ms = max(1, round((end - now) * 1000))
            found = self._mark(poll, min(ms, _STEP_MS) if stepwise else ms, polled)
            for wait in looking:
                if not wait.ready and wait.look is not None and wait.look():
                    found = wait.ready = True
            now = _real_time()
        self.looks_for_real = False
        for exchange in {id(e): e for wait in waits if not wait.ready for e in wait.exchanges}.values():
            exchange.waited_s += now - begin
        return found

    def _mark(self, poll: Any, ms: int, polled: dict[int, list[OutsideWait]]) -> bool:
        found = False
        if not polled and not ms:
            return False
        for fd, happened in real_poll(poll, ms):
            for wait in polled[fd]:
                if wait.look is not None:
                    if wait.look():
                        found = wait.ready = True
                elif any(fd == own and happened & (wanted | _ALWAYS) for own, wanted in wait.fds):
                    found = wait.ready = True
        return found

    # --- telling ------------------------------------------------------------------------------------

    def _stuck(self, waits: list[OutsideWait]) -> str:
        told = "; ".join(self.describe(wait) for wait in waits)
        return (
            f"nothing moves any more: {told}. Nothing in the rig is left that could end this. Give the call a "
            f"timeout, end it from a job or a thread of the rig, or, if it only takes long, raise stuck_after "
            f"(now {self.stuck_after_s:g} s)"
        )

    def where_it_stands(self, task: Task) -> str:
        """Return in words where a suspended task stands. Empty if it is not suspended."""
        frame = getattr(task.suspension, "gr_frame", None)
        if frame is None or not task.suspended:
            return ""
        what = next((f"in {wait.what}, " for wait in self._waits if wait.task is task), "")
        return f"{what}at {waiting_at(frame)}"

    def where_the_test_stands(self) -> str:
        """Return in words where the test's own code waits, also while the loop runs on another stack."""
        return f"at {waiting_at(getattr(self._loop.switcher, 'frame_of_test', None))}"

    def describe(self, wait: OutsideWait) -> str:
        """Return who waits where, in words."""
        task = wait.task
        if task is None:
            return f"the test waits in {wait.what}, {self.where_the_test_stands()}"
        frame = getattr(task.suspension, "gr_frame", None)
        return f"{task.label} waits in {wait.what}, at {waiting_at(frame)}"


_ALWAYS = select.POLLERR | select.POLLHUP | select.POLLNVAL


def _in_flight(peer: Any) -> bool:
    """Return True if the system has not sent yet what the other end has written: it gathers small packets."""
    if _family_of(peer) == socket.AF_UNIX:
        return False
    return has_unsent(peer)
