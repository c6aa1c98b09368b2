"""A Django app with a queue."""
