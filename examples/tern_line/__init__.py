"""Tern Line, a made-up ferry company: the code under test in every example.

It keeps bookings, sailings and its own job table in SQLite, and has never heard of Iron Clock.
"""
