"""The end of a version: what is told of it, what takes its place, and what does not fit together."""

from datetime import UTC, date, datetime, timedelta
from email.utils import parsedate_to_datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.carried import Bed, carry
from helpers import configuration, material
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.explain import explain
from tamarack.core.configuration.model import Api, Configuration, check
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.life_cycle.ending import ending_fields, ending_of, standing_successor
from tamarack.core.told.addresses import Addresses

DAYS = st.dates(date(1980, 1, 1), date(2200, 1, 1))


def api_of(*versions: dict[str, Any]) -> Api:
    """An API with versions named 1, 2 and so on."""
    made = [
        {"version": str(n), "base_path": f"/sailings/v{n}", "backend": "timetable", "policies": [{"kind": "open"}],
         "operations": [{"call": "get /sailings"}]} | version
        for n, version in enumerate(versions, 1)
    ]  # fmt: skip
    return Api.model_validate({"name": "sailings", "title": "Sailings", "versions": made})


def whole(api: Api) -> Configuration:
    return configuration(apis=[api.model_dump()])


@given(since=DAYS, lasts=st.integers(0, 4000))
def test_the_fields_say_the_days_as_their_standards_write_them(since: date, lasts: int) -> None:
    until = since + timedelta(days=lasts)
    fields = dict(ending_fields(since, until, "/sailings/v2", "http://portal.example/apis/sailings/1/"))
    moment = datetime.fromtimestamp(int(fields[b"deprecation"].removeprefix(b"@")), UTC)
    assert (moment.date(), moment.hour) == (since, 0)
    assert fields[b"sunset"].endswith(b" GMT")
    assert parsedate_to_datetime(fields[b"sunset"].decode()).date() == until
    assert fields[b"link"] == (
        b'</sailings/v2>; rel="successor-version",'
        b' <http://portal.example/apis/sailings/1/>; rel="deprecation"; type="text/html"'
    )


def test_what_does_not_end_says_nothing() -> None:
    assert ending_fields(None, None, "", "http://portal.example/apis/sailings/1/") == ()
    assert ending_of(api_of({}).versions[0]) == ""


@pytest.mark.parametrize("value", ["tomorrow", "2026-02-30", "05.11.2026", "2026-11-05T00:00:00", 20261105, True])
def test_a_day_that_is_none_is_refused_with_how_to_write_it(value: object) -> None:
    with pytest.raises(ValidationError, match="like 2027-02-28"):
        api_of({"sunset_on": value})


@pytest.mark.parametrize(
    ("end", "field", "words"),
    [
        ({"successor": "1"}, "successor", "cannot take its own place"),
        ({"successor": "9"}, "successor", "has no version '9' (it has: 2)"),
        ({"deprecated_on": "2026-11-05", "sunset_on": "2026-11-04"}, "sunset_on", "lies before 2026-11-05"),
    ],
)
def test_an_end_that_cannot_be_is_named(end: dict[str, Any], field: str, words: str) -> None:
    problem = next(p for p in check(whole(api_of(end, {}))) if p.path[-1] == field)
    assert problem.path == ("apis", 0, "versions", 0, field)
    assert words in problem.message


def test_the_day_of_deprecation_may_be_the_last() -> None:
    assert check(whole(api_of({"deprecated_on": "2026-11-05", "sunset_on": "2026-11-05", "successor": "2"}, {}))) == []


@pytest.mark.parametrize(
    ("versions", "found"),
    [
        ([{"successor": "2"}, {}], "2"),
        ([{"successor": "2"}, {"state": "preview"}], "2"),
        ([{"successor": "2"}, {"state": "preview", "trial": {}}], "2"),
        ([{"successor": "2"}, {"state": "preview", "trial": {"invited": ["tern-trips"]}}], None),
        ([{"successor": "2"}, {"state": "draft"}], None),
        ([{"successor": "2"}, {"state": "retired"}], None),
        ([{"successor": "2"}, {"state": "retired", "successor": "3"}, {}], "3"),
        ([{"successor": "2"}, {"state": "retired", "successor": "1"}], None),
        ([{"successor": "2"}, {"state": "retired", "successor": "3"}, {"state": "draft", "successor": "2"}], None),
        ([{}, {}], None),
    ],
)
def test_a_place_is_taken_by_the_next_version_that_answers(versions: list[dict[str, Any]], found: str | None) -> None:
    api = api_of(*versions)
    successor = standing_successor(api, api.versions[0])
    assert (successor.version if successor is not None else None) == found


def carried(api: Api) -> tuple[Any, bytes]:
    bed = Bed(
        whole(api), CallerDirectory(bytes(32), "production"), material(), addresses=Addresses("http://portal.example")
    )
    call = bed.call("GET", b"/sailings/v1/sailings")
    return carry(call), call.own_fields()


def test_every_answer_of_a_version_that_ends_says_so_also_a_refusal() -> None:
    end = {"state": "deprecated", "deprecated_on": "2026-11-05", "sunset_on": "2027-02-28", "successor": "2"}
    said = (
        b"deprecation: @1793836800\r\nsunset: Sun, 28 Feb 2027 00:00:00 GMT\r\n"
        b'link: </sailings/v2>; rel="successor-version",'
        b' <http://portal.example/apis/sailings/1/>; rel="deprecation"; type="text/html"\r\n'
    )
    for policies in ([{"kind": "open"}], []):
        _, fields = carried(api_of(end | {"policies": policies}, {}))
        assert fields == b"tamarack-call-id: c1\r\n" + said
    assert carried(api_of({}, {}))[1] == b"tamarack-call-id: c1\r\n"


def test_a_retired_version_names_what_takes_its_place_and_no_page_that_is_gone() -> None:
    refusal, fields = carried(api_of({"state": "retired", "sunset_on": "2026-11-05", "successor": "2"}, {}))
    assert isinstance(refusal, Refusal)
    assert (refusal.reason.status, refusal.reason.code) == (410, "retired")
    assert refusal.detail == "Version 1 of Sailings is no longer offered; version 2 at /sailings/v2 takes its place."
    assert b'link: </sailings/v2>; rel="successor-version"\r\n' in fields
    assert b"portal.example" not in fields


def test_the_page_says_it_in_words() -> None:
    api = api_of({"state": "deprecated", "deprecated_on": "2026-11-05", "sunset_on": "2027-02-28"}, {})
    said = [sentence.text for sentence in explain(whole(api), api, api.versions[0])]
    assert said[0].startswith("This version is deprecated from 5 November 2026 and answers until 28 February 2027;")
    api = api_of({"state": "retired", "successor": "2"}, {})
    assert "410, which names version 2." in explain(whole(api), api, api.versions[0])[0].text
