"""Forecasts: what a day of many jobs comes to, worked out from rates, durations and retry policies with NumPy."""
