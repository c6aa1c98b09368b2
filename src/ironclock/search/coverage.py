"""Coverage: how far a search came, in figures."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass
class Coverage:
    """What a search tried, what it did not try, and why. `Findings.coverage` is one."""

    seams: int = 0
    """How many seams the story passes at which a fault fits."""
    passed: list[str] = field(default_factory=list)
    """Those seams in words, in the order in which the story passes them."""
    folded: int = 0
    """How many more seams were passed at which nothing had happened since the last visit. They count as one."""
    fitting: int = 0
    """How many single faults fit at them."""
    tried: int = 0
    """How many single faults were tried."""
    pairs: int = 0
    """How many pairs of faults there are. Seams that only a first fault leads to count."""
    pairs_tried: int = 0
    """How many pairs were tried."""
    switchable: int = 0
    """In how many ways something else could run first, in a run without moves."""
    schedules: int = 0
    """How many orders were tried."""
    orders_complete: bool = True
    """True if every order with so many preemptions was tried."""
    preemptions: int = 0
    """How many preemptions an order could have."""
    random_orders: int = 0
    """How many orders by random priorities were tried."""
    samples: int = 0
    """How many sets of three or more faults were tried."""
    starts: int = 0
    """How many other starts were tried."""
    ended_early: int = 0
    """In how many runs the story itself raised an error. The laws were checked in those runs too."""
    given_up: int = 0
    """How many of these runs took much longer than the story does without faults, and were given up."""
    not_recovered: int = 0
    """In how many runs nothing was tried again after a lasting fault. Their laws were not checked."""
    in_outage: int = 0
    """In how many runs an outage lasted until the end of the story. Their laws were not checked."""
    runs: int = 1
    """How many runs the search has made."""
    looking_ahead: int = 0
    """How many more runs showed which orders there are."""
    shrinking: int = 0
    """How many more runs shrinking has made."""
    interrupted: bool = False
    """True if the search was interrupted."""
    why: list[str] = field(default_factory=list)
    """What was not tried, with the reason."""
    notes: list[str] = field(default_factory=list)
    """What else there is to say."""

    def __str__(self) -> str:
        lines = [
            f"{self.runs} runs; {self.seams} seams, where {self.fitting} single faults fit: {self.tried} tried",
        ]
        if self.folded:
            lines.append(f"{self.folded} more seams, at which nothing had happened since the last visit, count as one")
        if self.pairs:
            lines.append(f"{self.pairs_tried} of {self.pairs} pairs of faults tried")
        if self.samples:
            lines.append(f"{self.samples} larger sets of faults, drawn by lot")
        if self.schedules:
            every = "that is every one" if self.orders_complete else "not every one"
            lines.append(
                f"{self.schedules} orders of what is due at one instant ({self.switchable} switches in the plain run), "
                f"{every} with at most {self.preemptions} preemptions"
            )
        if self.random_orders:
            lines.append(f"{self.random_orders} orders by random priorities")
        if self.starts:
            lines.append(f"{self.starts} other starts")
        more = [(self.looking_ahead, "looking ahead"), (self.shrinking, "shrinking")]
        told = [f"{count} for {what}" for count, what in more if count]
        if told:
            lines.append(f"more runs: {', '.join(told)}")
        if self.ended_early:
            lines.append(
                f"{self.ended_early} runs in which the story itself raised an error; their laws were checked too"
            )
        if self.given_up:
            lines.append(f"{self.given_up} of these took much longer than the story does, and were given up")
        if self.not_recovered:
            lines.append(
                f"{self.not_recovered} runs in which nothing was tried again after a lasting fault; their laws were "
                "not checked"
            )
        if self.in_outage:
            lines.append(f"{self.in_outage} runs that ended in an outage; their laws were not checked")
        lines += [f"not tried: {reason}" for reason in self.why]
        if self.interrupted:
            lines.append("not tried: the rest, because the search was interrupted")
        lines += self.notes
        return "\n".join(lines)
