"""How a budget is spread over tests."""

from __future__ import annotations

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from ironclock.suite.budget import Budget, level

NEEDS = st.lists(st.floats(0.1, 100), min_size=1, max_size=12)


@pytest.mark.parametrize(
    ("budget", "needs", "gets"),
    [(10, [4], 10), (10, [4, 1], 9), (10, [20, 20], 5), (10, [20, 2], 8), (10, [2, 20], 8), (9, [20, 3, 1, 20], 8 / 3)],
)
def test_an_equal_part_and_what_others_leave_over(budget: float, needs: list[float], gets: float) -> None:
    assert level(budget, needs) == gets


@example(135.0, [42.0, 5.0, 1.2889012889431637, 41.0, 0.1, 4.68191669340796, 40.97264060249963])
@given(st.floats(1, 300), NEEDS)
def test_a_budget_is_never_more_than_spent(budget: float, needs: list[float]) -> None:
    left = budget
    for number, need in enumerate(needs):
        spent = min(need, level(left, needs[number:]))
        assert 0 <= spent <= need
        left -= spent
    assert left >= -1e-6
    assert min(needs) <= budget / len(needs) or left == pytest.approx(0, abs=1e-6)


def test_runs_that_are_spent_are_gone() -> None:
    budget = Budget(runs=30)
    assert budget.share([1.0, 1.0], [100.0, 100.0]) == (None, 15)
    budget.spend(5)
    assert budget.share([1.0], [100.0]) == (None, 25)
    budget.spend(40)
    assert budget.share([1.0], [100.0]) == (None, 0)
