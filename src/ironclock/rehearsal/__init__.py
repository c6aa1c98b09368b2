"""Rehearsal: what happened once, as a log tells it, with other policies, workers, schedules or code."""
