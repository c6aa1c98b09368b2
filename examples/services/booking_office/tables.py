"""Fixtures: the database of the office, empty for each test."""

from __future__ import annotations

import urllib.parse
from collections.abc import Iterator

import pytest
from django.db import connection

from services.booking_office import office


@pytest.fixture(scope="session")
def office_database(postgres_url: str) -> Iterator[str]:
    connection.settings_dict["PORT"] = str(urllib.parse.urlsplit(postgres_url).port)
    with connection.schema_editor() as editor:
        for model in office.MODELS:
            editor.create_model(model)
    connection.close()
    yield postgres_url
    with connection.schema_editor() as editor:
        for model in reversed(office.MODELS):
            editor.delete_model(model)
    connection.close()


@pytest.fixture(autouse=True)
def crossing(office_database: str) -> Iterator[office.Crossing]:
    """One crossing, and nothing else."""
    tables = ", ".join(model._meta.db_table for model in office.MODELS)
    with connection.cursor() as cursor:
        cursor.execute(f"truncate {tables} restart identity")
    yield office.Crossing.objects.create(code="TL-204")
    connection.close()
