"""Versions that share a base path: calls name the one that they are for by a header, or by a media type."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.carried import NOW, Bed, run
from core.life_cycle.test_ending import api_of, whole
from helpers import material
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.program import Operation
from tamarack.core.carrying.receiving import receive
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.model import Api, Configuration, check
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.life_cycle.version_naming import VersionNaming
from tamarack.core.told.shown_path import operation_of
from tamarack.core.trying.naming import named_by

HEADER = {"by": "header"}
MEDIA = {"by": "media type"}
PATH = {"base_path": "/sailings"}


def shared(naming: dict[str, Any] | None, *versions: dict[str, Any]) -> Configuration:
    """Sailings with versions 1 and 2 at one base path, of which 2 alone has ports."""
    two = {"operations": [{"call": "get /sailings"}, {"call": "get /ports"}]}
    made = api_of(*(PATH | one for one in versions)) if versions else api_of(PATH, PATH | two)
    return whole(Api.model_validate(made.model_dump() | {"naming": naming}))


def bed(made: Configuration) -> Bed:
    return Bed(made, CallerDirectory(bytes(32), "production"), material())


def found(on: Bed, path: bytes = b"/sailings/sailings", method: str = "GET", media: bytes = b"", **fields: str) -> Any:
    """The version that a call is for, or how it ends."""
    call = _call(method, path)
    call.headers = [(name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()]
    call.media = media
    outcome = receive(on.router, call)
    if isinstance(outcome, Operation):
        return outcome.version
    return outcome.reason.code if isinstance(outcome, Refusal) else outcome


def _call(method: str, path: bytes) -> Any:
    call = Call(b"c1", NOW, 0, "192.0.2.1")
    call.method, call.path = method, path
    return call


@pytest.mark.parametrize(
    ("named", "version"),
    [
        ({"api_version": "1"}, "1"),
        ({"api_version": " 2 "}, "2"),
        ({"api_version": "3"}, "unknown-version"),
        ({"api_version": ""}, "unknown-version"),
        ({}, "unknown-version"),
        ({"version": "1"}, "unknown-version"),
    ],
)
def test_a_header_names_the_version(named: dict[str, str], version: str) -> None:
    assert found(bed(shared(HEADER)), **named) == version


def test_a_version_that_is_named_twice_otherwise_is_refused_and_twice_alike_is_not() -> None:
    on = bed(shared(HEADER))
    for second, outcome in (("2", "unknown-version"), ("1", "1")):
        call = _call("GET", b"/sailings/sailings")
        call.headers = [(b"api-version", b"1"), (b"api-version", second.encode())]
        assert getattr(receive(on.router, call), "version", "unknown-version") == outcome


@pytest.mark.parametrize(
    ("accept", "media", "version"),
    [
        ("application/json;version=2", "", "2"),
        ('application/json; Version = "1"', "", "1"),
        ("text/html, application/json;q=0.5;version=1, application/json;version=2", "", "2"),
        ("application/json;version=1;q=0.2, application/xml;version=2;q=0.1", "", "1"),
        ("application/json", "application/json;version=1", "1"),
        ("application/json;version=2", "application/json;version=1", "2"),
        ("application/json;conversion=2", "", "unknown-version"),
        ("", "", "unknown-version"),
    ],
)
def test_a_media_types_parameter_names_the_version(accept: str, media: str, version: str) -> None:
    assert found(bed(shared(MEDIA)), accept=accept, media=media.encode()) == version


def test_calls_that_name_none_are_for_the_default() -> None:
    on = bed(shared(HEADER | {"default": "1", "name": "X-Wanted"}))
    assert found(on) == "1"
    assert found(on, x_wanted="2") == "2"
    assert found(on, x_wanted="3") == "unknown-version"
    retired = bed(shared(HEADER | {"default": "1"}, {"state": "retired"}, {}))
    assert found(retired) == "1"  # where it answers 410
    drafted = bed(shared(HEADER | {"default": "1"}, {"state": "draft"}, {}))
    assert found(drafted) == "unknown-version"


def test_paths_and_methods_are_those_of_the_version_that_is_named() -> None:
    on = bed(shared(HEADER))
    assert found(on, b"/sailings/ports", api_version="2") == "2"
    assert found(on, b"/sailings/ports", api_version="1") == "unknown-path"
    assert found(on, b"/sailings/sailings", "POST", api_version="1") == "wrong-method"
    assert found(on, b"/sailings/%73ailings", api_version="1") == "1"
    assert found(on, b"/sailingsx", api_version="1") == "unknown-path"
    assert found(on, b"/sailings/", api_version="1") == "unknown-path"


def test_the_refusal_says_what_there_is_and_answers_say_what_they_depend_on() -> None:
    on = bed(shared(HEADER))
    call = _call("GET", b"/sailings/sailings")
    call.headers = [(b"api-version", b"\xff9")]
    refusal = receive(on.router, call)
    assert isinstance(refusal, Refusal)
    assert refusal.detail == (
        "Sailings has no version '\ufffd9' here. It has 1 and 2; send api-version: 1 for one of them."
    )
    call.headers = [(b"api-version", b"1")]
    call.operation = receive(on.router, call)
    assert b"vary: api-version\r\n" in call.own_fields()
    retired = bed(shared(MEDIA, {"state": "retired", "successor": "2"}, {}))
    call = _call("GET", b"/sailings/sailings")
    call.headers = [(b"accept", b"application/json;version=1")]
    call.operation = receive(retired.router, call)
    retired.takes(call)
    gone = run(call)
    assert gone is not None
    assert "version 2 at /sailings with accept: application/json;version=2 takes its place" in gone.detail


@given(st.binary(max_size=40), st.binary(max_size=80))
def test_whatever_a_call_says_the_answer_is_a_version_or_a_refusal(header: bytes, accept: bytes) -> None:
    for on in _BEDS:
        call = _call("GET", b"/sailings/sailings")
        call.headers = [(b"api-version", header), (b"accept", accept)]
        outcome = receive(on.router, call)
        assert isinstance(outcome, Operation) or outcome.reason.code == "unknown-version"  # type: ignore[union-attr]


_BEDS = [bed(shared(HEADER)), bed(shared(MEDIA))]


def test_a_preflight_names_no_version() -> None:
    browsers = {"policies": [{"kind": "open"}, {"kind": "browser-access", "origins": ["https://a.example"]}]}
    on = bed(shared(HEADER, {}, browsers))
    assert found(on, method="OPTIONS", origin="https://a.example", access_control_request_method="GET") == (
        "browser-closed"
    )  # version 1 stands first, and lets no page in
    default = bed(shared(HEADER | {"default": "2"}, {}, browsers))
    answer = found(default, method="OPTIONS", origin="https://a.example", access_control_request_method="GET")
    assert answer.status == 204


def test_a_base_path_is_shared_within_an_api_that_names_versions_alone() -> None:
    assert check(shared(HEADER)) == []
    assert "already the base path of Sailings 1" in check(shared(None))[0].message
    two = shared(HEADER)
    other = two.apis[0].model_copy(update={"name": "fares", "title": "Fares", "versions": two.apis[0].versions[:1]})
    assert (
        "already the base path of Sailings 1" in check(two.model_copy(update={"apis": (*two.apis, other)}))[0].message
    )
    assert "has no version '9'" in check(shared(HEADER | {"default": "9"}))[0].message


@pytest.mark.parametrize(
    "wrong", [{"by": "query"}, HEADER | {"name": "host"}, HEADER | {"name": "a b"}, MEDIA | {"name": "q"}, MEDIA | {"name": "a=b"}]
)  # fmt: skip
def test_a_name_that_cannot_stand_is_refused(wrong: dict[str, Any]) -> None:
    with pytest.raises(ValidationError):
        VersionNaming.model_validate(wrong)


def test_examples_and_drawings_are_those_of_the_version() -> None:
    made = shared(MEDIA)
    assert named_by(made.apis[0], made.apis[0].versions[1]) == {"accept": "application/json;version=2"}
    assert named_by(shared(HEADER | {"name": "X-V"}).apis[0], made.apis[0].versions[0]) == {"x-v": "1"}
    assert named_by(shared(None).apis[0], made.apis[0].versions[0]) == {}
    assert operation_of(made, "production", "sailings", "2", "get /ports", lambda: 0).version == "2"
    said = [change.text for change in difference(shared(HEADER), shared(MEDIA | {"default": "1"}))]
    assert said == [
        "its versions are named by the media type version, 1 where none is named instead of the header api-version"
    ]
