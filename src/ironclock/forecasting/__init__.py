"""Forecasts: what a day of many jobs is like, worked out from rates, durations and retry policies with NumPy."""
