"""The review tells every change of an API and of a version: whatever field is added to them later has words too."""

from typing import Any

import pytest

from helpers import configuration
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.model import Api, Configuration, Version

OF_A_VERSION: dict[str, Any] = {
    "state": "deprecated",
    "deprecated_on": "2026-11-05",
    "sunset_on": "2027-02-28",
    "successor": "3",
    "brown_outs": ["2027-02-03 09:00 for 15 minutes"],
    "trial": {"invited": ["tern-trips"]},
    "base_path": "/elsewhere",
    "backend": "fares",
    "document": "a" * 64,
    "policies": [{"kind": "open"}],
    "operations": [{"call": "get /elsewhere"}],
    "fields": [{"call": "field Query.lamps", "policies": [{"kind": "groups", "allow": ["harbour"]}]}],
}
OF_AN_API: dict[str, Any] = {
    "title": "Crossings",
    "summary": "All of them",
    "owner": "o.reed@skerry.example",
    "contact": "timetable@skerry.example",
    "naming": {"by": "header"},
    "visible_to": ["internal"],
    "scopes": ["sailings:book Book a passage in your name"],
    "pages": [{"name": "first-steps", "title": "First steps", "document": "b" * 64}],
    "versions": [],
}
ONE_VALUE = {"style"}
"""Fields that can have one value alone, so that nobody can change them."""


def with_api(api: dict[str, Any]) -> Configuration:
    return configuration(apis=[api])


def test_every_field_is_tried() -> None:
    assert set(Version.model_fields) == {"version", *OF_A_VERSION}
    assert set(Api.model_fields) - ONE_VALUE == {"name", *OF_AN_API}


@pytest.mark.parametrize("field", OF_A_VERSION)
def test_a_change_of_a_version_is_told(field: str) -> None:
    before = configuration()
    api = before.apis[0].model_dump()
    version = api["versions"][0] | {field: OF_A_VERSION[field]}
    found = difference(before, with_api(api | {"versions": [version]}))
    assert found
    assert {change.api for change in found} == {"sailings"}
    assert difference(with_api(api), before) == []


@pytest.mark.parametrize("field", OF_AN_API)
def test_a_change_of_an_api_is_told(field: str) -> None:
    before = configuration()
    api = before.apis[0].model_dump() | {field: OF_AN_API[field]}
    assert [change.item for change in difference(before, with_api(api))][:1] == ["sailings"]
    assert [change.item for change in difference(with_api(api), before)][:1] == ["sailings"]
