"""What goes wrong with deliveries: twice, late, without an acknowledgement, or before the commit."""

from __future__ import annotations

from collections.abc import Iterable

from .kind import Amounts, FaultKind, Passing, Strike


class DeliverTwice(FaultKind):
    """The same message comes a second time."""

    name = "deliver_twice"
    words = "the message is delivered twice"
    seams = frozenset({"start"})
    needs = frozenset({"deliver_again"})
    cell = "twice"
    excuses = frozenset({"in_order", "attempts_at_most", "no_overlap"})
    rank = 0
    place_words = "deliver twice"
    keys = ("after",)

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.deliver_again(strike.by_ns)


class LoseAck(FaultKind):
    """The queue never hears that the job is done, and delivers it again."""

    name = "lose_ack"
    words = "the acknowledgement is lost"
    seams = frozenset({"ack"})
    needs = frozenset({"lose_ack"})
    uses_up = "delivery"
    cell = "twice"
    excuses = frozenset({"in_order", "attempts_at_most"})
    place_words = "lose the acknowledgement of"
    keys = ()

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.lose_ack()

    def fits(self, passing: Passing) -> bool:
        attempt = passing.attempt
        return super().fits(passing) and attempt is not None and attempt.job.type.policy.ack == "late"


class Delay(FaultKind):
    """A job, or a firing, comes late, so that later ones can overtake it."""

    name = "delay"
    words = "it comes {by} late"
    seams = frozenset({"delivery", "firing"})
    needs = frozenset({"come_late"})
    strikes = frozenset({"job", "firing"})
    is_timed = True
    cell = "late"
    excuses = frozenset({"in_order"})
    place_words = "deliver late by {by}"
    keys = ("by",)

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.come_late(strike.by_ns)

    def amounts(self, passing: Passing, tried: Amounts, passed: int) -> Iterable[int]:
        return (tried.delay_ns,)


class FetchEarly(FaultKind):
    """A worker fetches a job before the transaction around its enqueue has committed."""

    name = "fetch_early"
    words = "a worker fetches it at once"
    seams = frozenset({"before commit"})
    needs = frozenset({"fetch"})
    strikes = frozenset({"job"})
    cell = "out of order"

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.fetch()


class MissFiring(FaultKind):
    """The scheduler is down when a firing is due."""

    name = "miss_firing"
    words = "the scheduler is down for {by}"
    seams = frozenset({"firing"})
    needs = frozenset({"miss"})
    strikes = frozenset({"firing"})
    is_timed = True
    cell = "late"

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.miss(strike.by_ns)

    def amounts(self, passing: Passing, tried: Amounts, passed: int) -> Iterable[int]:
        return (tried.slow_ns,)


class OtherVersion(FaultKind):
    """In a deployment, the other version of its handlers takes an attempt."""

    name = "other_version"
    words = "the other version takes it"
    seams = frozenset({"start"})
    needs = frozenset({"other_version"})

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.other_version()

    def fits(self, passing: Passing) -> bool:
        attempt = passing.attempt
        return super().fits(passing) and attempt is not None and attempt.job.type.deployment is not None


DELIVER_TWICE, LOSE_ACK, DELAY, FETCH_EARLY = DeliverTwice(), LoseAck(), Delay(), FetchEarly()
MISS_FIRING, OTHER_VERSION = MissFiring(), OtherVersion()
