"""A thread that runs cron lines."""
