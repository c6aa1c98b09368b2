"""The shapes of payloads: types and structure, without values, as JSON Schema."""

from __future__ import annotations

import datetime as dt
import enum
from decimal import Decimal
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

import ironclock as ic
from ironclock.history.payload_shapes import payload_shape, sample_of, shape_of, told_payload, words_of

JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=5), inner, max_size=4),
    max_leaves=10,
)


def charge(*args: Any, **kwargs: Any) -> None:
    pass


def test_one_shape_for_values_of_the_same_types(tmp_path: Path) -> None:
    with ic.Rig() as rig:
        job = rig.job(charge)
        for booking in ("B-1", "B-2"):
            rig.enqueue(job.call(booking, seats=3, to={"name": "Ada", "tags": ["vip"]}))
        rig.enqueue(job.call("B-3"))
        rig.run_dry()
    shapes = rig.history.payloads()
    assert sorted(told_payload("charge", shape) for shape in shapes["charge"]) == [
        "charge(text)",
        "charge(text, seats=whole number, to=object with name, tags)",
    ]
    for job in rig.jobs():
        payload = {"args": list(job.args), "kwargs": job.kwargs}
        fitting = [shape for shape in shapes["charge"] if not list(_errors(shape, payload))]
        assert len(fitting) == 1
    rig.history.save(tmp_path / "day.jsonl")
    assert ic.History.load(tmp_path / "day.jsonl").payloads() == shapes


def _errors(shape: Any, value: Any) -> Any:
    return jsonschema.Draft202012Validator(shape).iter_errors(value)


@given(st.lists(JSON, max_size=3), st.dictionaries(st.text(max_size=5), JSON, max_size=3))
def test_a_payload_and_its_sample_fit_its_shape(args: list[Any], kwargs: dict[str, Any]) -> None:
    shape = payload_shape(args, kwargs)
    jsonschema.Draft202012Validator.check_schema(shape)
    assert not list(_errors(shape, {"args": args, "kwargs": kwargs}))
    assert not list(_errors(shape, sample_of(shape)))
    assert payload_shape(*sample_of(shape).values())["properties"].keys() == shape["properties"].keys()


class Deck(enum.Enum):
    CAR = 1


@pytest.mark.parametrize(
    ("value", "words"),
    [
        (None, "None"), (True, "true or false"), (3, "whole number"), (0.5, "number"), ("text", "text"), ([], "list"),
        ([1, 2], "list of whole number"), ([1, "a"], "list of whole number or text"), ((1,), "list of whole number"),
        ({}, "object"), ({"a": 1}, "object with a"), (dict.fromkeys(map(str, range(30)), 1), "object"),
        (dt.datetime(2031, 3, 3), "datetime.datetime"), (Decimal(1), "decimal.Decimal"), (Deck.CAR, f"{__name__}.Deck"),
    ],
)  # fmt: skip
def test_shapes_in_words(value: Any, words: str) -> None:
    assert words_of(shape_of(value)) == words
