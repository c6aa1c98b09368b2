"""Servers of the services' tests, on loopback ports, gone with them."""

from __future__ import annotations

from collections.abc import Iterator

import postgres
import pytest
import servers


@pytest.fixture(scope="session")
def postgres_url() -> Iterator[str]:
    """The URL of a PostgreSQL server."""
    if postgres.missing():
        pytest.skip(postgres.missing())
    with postgres.PostgreSQL() as server:
        yield f"postgresql://tern@127.0.0.1:{server.port}/postgres"


@pytest.fixture(scope="session")
def redis_url() -> Iterator[str]:
    """The URL of a key-value server."""
    if servers.redis_missing():
        pytest.skip(servers.redis_missing())
    with servers.Redis() as server:
        yield f"redis://127.0.0.1:{server.port}/0"
