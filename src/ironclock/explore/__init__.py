"""Searching a story for what breaks a law: faults, orders and timings, shrunk to the fewest."""
