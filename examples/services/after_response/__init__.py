"""Functions that run after the response of an ASGI service."""
