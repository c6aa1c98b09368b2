"""Scenario files: a world, its jobs, its faults and what is expected of them, in TOML that a reviewer can read."""
