"""When things happen: cron expressions, intervals, the sun, recurrence rules, and sets of them.

Inside, an instant is a whole number of seconds or nanoseconds since 1970-01-01T00:00Z. Only the timetable knows about
jobs.
"""
