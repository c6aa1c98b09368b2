"""Steering a run off its ordinary course: plans of moves, what fits where, and the tokens that repeat them."""
