"""Logs of real runs, read as histories, so that the same laws can be checked on them."""
