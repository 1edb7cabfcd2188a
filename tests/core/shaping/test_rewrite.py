"""Another path or method for the backend: what is asked, what is counted and recorded, and what cannot be."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.carried import Bed, carry
from helpers import configuration, material
from tamarack.core.balancing.route import Choice, Route
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.needs import Ask
from tamarack.core.configuration.model import Configuration, check
from tamarack.core.http.heads import Answered
from tamarack.core.http.paths import BadPath, settle_path
from tamarack.core.http.target import target_at
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.policies.shape.rewrite import Rewrite

TARGET = target_at("http://127.0.0.1:9/base", 1000, 1000)
OPERATIONS = [{"call": "get /sailings/{id}/stops/{port}"}, {"call": "post /sailings"}, {"call": "any /files/*"}]


def made(policy: dict[str, Any], operations: list[dict[str, Any]] | None = None) -> Configuration:
    version = {"policies": [{"kind": "open"}, {"kind": "rewrite"} | policy], "operations": operations or OPERATIONS}
    return configuration(version=version)


def asked(policy: dict[str, Any], path: bytes, method: str = "GET", **more: Any) -> tuple[Any, str]:
    """The call, and the request line that its target reads."""
    routes = {"timetable": Route((Choice(TARGET),))}
    bed = Bed(made(policy), CallerDirectory(bytes(32), "production"), material(), routes=routes)
    lines: list[str] = []

    def backend(ask: Ask, body: bytes) -> Any:
        lines.append(ask.head.partition(b" HTTP/1.1")[0].decode())
        return Answered(204, [], b""), ()

    call = bed.call(method, b"/sailings/v2" + path, **more)
    outcome = carry(call, backend=backend)
    return (call, lines[0]) if isinstance(outcome, Passed) else (outcome, "")


@pytest.mark.parametrize(
    ("policy", "path", "line"),
    [
        ({"path": "/lines/{port}/{id}"}, b"/sailings/G-1/stops/corran", "GET /base/lines/corran/G-1?q=1"),
        ({"path": "/x"}, b"/sailings/G-1/stops/corran", "GET /base/x?q=1"),
        ({"path": "/of/{id}.json"}, b"/sailings/G%2F1/stops/corran", "GET /base/of/G%2F1.json?q=1"),
        ({"path": "/archive/*"}, b"/files/a/b", "GET /base/archive/a/b?q=1"),
        ({"strip": "/files", "put": "/old"}, b"/files/a", "GET /base/old/a?q=1"),
        ({"strip": "/file"}, b"/files/a", "GET /base/files/a?q=1"),
        ({"strip": "/files/a"}, b"/files/a", "GET /base?q=1"),
        ({"put": "/internal"}, b"/sailings/G-1/stops/corran", "GET /base/internal/sailings/G-1/stops/corran?q=1"),
        ({"method": "PUT"}, b"/files/a", "PUT /base/files/a?q=1"),
    ],
)
def test_the_backend_is_asked_as_it_is_written(policy: dict[str, Any], path: bytes, line: str) -> None:
    call, found = asked(policy, path, query=b"q=1")
    assert found == line.replace("/base?", "/base/?") or found == line
    assert (call.method, call.path) == ("GET", b"/sailings/v2" + path)  # what was called is counted and recorded


def test_a_head_stays_one_and_conditions_hold() -> None:
    assert asked({"method": "POST"}, b"/files/a", "HEAD")[1] == "HEAD /base/files/a"
    policy = {"path": "/x", "when": ["query old is present"]}
    assert asked(policy, b"/files/a", query=b"old=1")[1] == "GET /base/x?old=1"
    assert asked(policy, b"/files/a", query=b"new=1")[1] == "GET /base/files/a?new=1"


@given(st.text(st.characters(codec="ascii", categories=["L", "N", "P", "S"]), min_size=1, max_size=20))
def test_a_parameter_stays_one_segment_whatever_it_holds(value: str) -> None:
    try:
        path = settle_path(f"/sailings/v2/sailings/{value.replace('/', '%2F').replace('?', '%3F')}/stops/x".encode())
    except BadPath:
        return
    line = asked({"path": "/a/{id}/b"}, path.removeprefix(b"/sailings/v2"))[1]
    assert line.startswith("GET /base/a/")
    assert line.endswith("/b")
    assert line.count("/") == 4
    assert not {".", ".."} & set(line.split("/"))


@pytest.mark.parametrize(
    ("policy", "words"),
    [
        ({}, "it would change nothing"),
        ({"path": "lines"}, "does not start with /"),
        ({"path": "/a/../b"}, "no . or .. part"),
        ({"path": "/a b"}, "is not a path"),
        ({"path": "/a?b=c"}, "is not a path"),
        ({"path": "/a\r\nX: y"}, "is not a path"),
        ({"strip": "/{id}"}, "is not a path"),
        ({"method": "HEAD"}, "Input should be"),
        ({"method": "TRACE"}, "Input should be"),
    ],
)
def test_what_cannot_be_asked_is_refused_in_words(policy: dict[str, Any], words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        Rewrite.model_validate(policy)


def test_a_path_of_parameters_holds_only_where_the_operation_names_them() -> None:
    found = [problem.message for problem in check(made({"path": "/lines/{id}"}))]
    assert found == [
        "‘rewrite’, which holds for post /sailings too: its path takes {id}, which /sailings does not name;"
        " place it on single operations",
        "‘rewrite’, which holds for any /files/* too: its path takes {id}, which /files/* does not name;"
        " place it on single operations",
    ]
    own = [{"call": "get /a/{id}", "policies": [{"kind": "rewrite", "path": "/b/{id}"}]}]
    assert check(made({"path": "/c"}, own)) == []
    rest = [{"call": "get /a/{id}", "policies": [{"kind": "rewrite", "path": "/b/*"}]}]
    assert "ends with /*, which /a/{id} does not" in check(made({"path": "/c"}, rest))[0].message
