"""A job API over a key-value server."""
