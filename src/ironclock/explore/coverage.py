"""How far a search came, in plain figures."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass
class Coverage:
    """What a search tried, and what it left untried and why."""

    seams: int = 0
    """Seams that the story passes where some fault fits."""
    passed: list[str] = field(default_factory=list)
    """Those seams, in words, in the order in which the story passes them."""
    fitting: int = 0
    """Single faults that fit at them."""
    tried: int = 0
    pairs: int = 0
    """Pairs of faults that there are, those at seams that only a first fault leads to included."""
    pairs_tried: int = 0
    switchable: int = 0
    """Ways in which one other thing could run first, in the ordinary course of the story."""
    schedules: int = 0
    orders_complete: bool = True
    """Whether every order within the bound of preemptions was tried."""
    preemptions: int = 0
    random_orders: int = 0
    samples: int = 0
    """Sets of three and more faults."""
    starts: int = 0
    ended_early: int = 0
    """Runs that the story left with an error of its own; their laws were checked all the same."""
    runs: int = 1
    looking_ahead: int = 0
    """Runs that showed which orders there are, on top of the others."""
    shrinking: int = 0
    """Runs that shrinking took, on top of the others."""
    interrupted: bool = False
    why: list[str] = field(default_factory=list)
    """What was left untried, with the reason."""
    notes: list[str] = field(default_factory=list)

    def __str__(self) -> str:
        lines = [
            f"{self.runs} runs; {self.seams} seams, where {self.fitting} single faults fit: {self.tried} tried",
        ]
        if self.pairs:
            lines.append(f"{self.pairs_tried} of {self.pairs} pairs of faults tried")
        if self.samples:
            lines.append(f"{self.samples} larger sets of faults, drawn by lot")
        if self.schedules:
            every = "that is every one" if self.orders_complete else "not every one"
            lines.append(
                f"{self.schedules} orders of what is due at once ({self.switchable} switches in the plain run), "
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
                f"{self.ended_early} runs in which the story itself raised an error; laws checked all the same"
            )
        lines += [f"left untried: {reason}" for reason in self.why]
        if self.interrupted:
            lines.append("left untried: the rest, since the search was interrupted")
        lines += self.notes
        return "\n".join(lines)
