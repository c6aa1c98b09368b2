"""Catching what real code enqueues: taps, readings, and what survives the way through a queue."""
