"""Scenario files: a world, its jobs, its faults and what is expected, in TOML that a reviewer can read."""
