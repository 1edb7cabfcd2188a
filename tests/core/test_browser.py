"""Browser access: what the gateway sends, and what a browser makes of it, by the Fetch standard."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.carried import Bed, run
from core.protected import API_KEY, call_on, protected
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.receiving import receive
from tamarack.core.configuration.review import risks
from tamarack.core.http.browser import BrowserRule, judge, unsafe_headers
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.policies.guard.browser_access import BrowserAccess

ORIGIN = "https://www.lantern-bay.example"
OTHER = "https://evil.example"


def rule(**changes: Any) -> BrowserRule:
    said: dict[str, Any] = {
        "origins": [ORIGIN, "https://*.tern.example"],
        "methods": ["GET", "PUT"],
        "headers": ["x-skerry-key"],
    }
    return BrowserAccess.model_validate(said | changes).rule


def fields(raw: bytes) -> dict[str, str]:
    return dict(line.split(": ", 1) for line in raw.decode().splitlines())


def test_an_answer_is_readable_for_the_origins_and_methods_that_are_named() -> None:
    assert fields(rule().answer_fields(ORIGIN.encode(), "GET")) == {
        "access-control-allow-origin": ORIGIN,
        "access-control-expose-headers": "tamarack-call-id, ratelimit, ratelimit-policy, retry-after",
        "vary": "Origin",
    }
    below = rule().answer_fields(b"https://a.tern.example", "GET")
    assert fields(below)["access-control-allow-origin"] == "https://a.tern.example"


@pytest.mark.parametrize(
    ("origin", "method"), [(OTHER, "GET"), (ORIGIN, "POST"), ("", "GET"), ("null", "GET"), (ORIGIN + ":8443", "GET")]
)
def test_any_other_answer_says_only_that_it_depends_on_the_origin(origin: str, method: str) -> None:
    assert rule().answer_fields(origin.encode(), method) == b"vary: Origin\r\n"


def test_any_origin_needs_no_vary_and_takes_no_credentials() -> None:
    anyone = rule(origins=["*"])
    expected = "access-control-allow-origin: *\r\naccess-control-expose-headers: "
    assert anyone.answer_fields(OTHER.encode(), "GET").decode().startswith(expected)
    assert b"vary" not in anyone.answer_fields(OTHER.encode(), "GET")
    with pytest.raises(ValueError, match="every site act as its visitors"):
        rule(origins=["*"], credentials=True)
    with pytest.raises(ValueError, match="name each header"):
        rule(headers=["*"])
    with pytest.raises(ValueError, match="at least one"):
        rule(origins=[])


@pytest.mark.parametrize(
    ("origin", "method", "headers", "forbidden"),
    [
        (ORIGIN, "GET", ["x-skerry-key"], ""), (ORIGIN, "PUT", [], ""), (ORIGIN, "GET", ["accept"], ""),
        (OTHER, "GET", [], "origins: none of them"), (ORIGIN, "DELETE", [], "methods: DELETE"),
        (ORIGIN, "put", [], "methods: put"), (ORIGIN, "GET", ["x-other"], "headers: x-other"),
        (ORIGIN, "GET", ["content-type"], "headers: content-type"),
    ],
)  # fmt: skip
def test_a_preflight_names_the_line_that_forbids(origin: str, method: str, headers: list[str], forbidden: str) -> None:
    raw, why = rule().preflight(origin.encode(), method, headers)
    assert why.startswith(forbidden) if forbidden else why == ""
    assert fields(raw)["vary"] == "Origin, Access-Control-Request-Method, Access-Control-Request-Headers"
    assert ("access-control-allow-origin" in fields(raw)) is (not forbidden)


def asked(made: Any, path: bytes, *headers: tuple[bytes, bytes]) -> tuple[Call, Any]:
    bed = Bed(made, _Nobody(), Material("production", nothing_sealed))
    call = Call(b"c1", 0.0, 0, "192.0.2.1")
    call.method, call.path, call.headers = "OPTIONS", path, [(b"origin", ORIGIN.encode()), *headers]
    return call, receive(bed.router, call)


class _Nobody:
    def finder(self, kind: Any) -> Any:
        return CallerDirectory(bytes(32), "production").finder(kind)

    def application(self, name: str) -> None:
        return None


ACCESS = {"kind": "browser-access", "origins": [ORIGIN], "methods": ["GET"], "headers": ["x-skerry-key"]}
WANTS_GET = (b"access-control-request-method", b"GET")


def test_a_preflight_is_answered_for_the_operation_that_it_asks_about_without_a_credential() -> None:
    call, reply = asked(protected(API_KEY, ACCESS), b"/sailings/v2/sailings", WANTS_GET)
    assert isinstance(reply, Reply)
    assert call.operation is not None
    assert (call.operation.name, reply.status, reply.body) == ("get /sailings", 204, b"")
    assert fields(reply.fields)["access-control-allow-origin"] == ORIGIN


@pytest.mark.parametrize(
    ("policies", "path", "method", "reason"),
    [
        ((API_KEY,), b"/sailings/v2/sailings", b"GET", "browser-closed"),
        ((API_KEY, ACCESS), b"/sailings/v2/sailings", b"POST", "browser-closed"),
        ((API_KEY, ACCESS), b"/sailings/v2/sailings", b"DELETE", "wrong-method"),
        ((API_KEY, ACCESS), b"/sailings/v2/nothing", b"GET", "unknown-path"),
    ],
)  # fmt: skip
def test_what_is_not_opened_is_closed(policies: Any, path: bytes, method: bytes, reason: str) -> None:
    call, refusal = asked(protected(*policies), path, (b"access-control-request-method", method))
    assert refusal.reason.code == reason
    assert b"allow-origin" not in call.fields


def test_refusals_are_readable_for_the_page_too() -> None:
    call = call_on(protected(API_KEY, ACCESS), ("origin", ORIGIN))
    refusal = run(call)
    assert refusal is not None
    assert refusal.reason.code == "no-credential"
    assert fields(call.fields)["access-control-allow-origin"] == ORIGIN


def test_the_innermost_rule_holds_whatever_its_name() -> None:
    inner = {"kind": "browser-access", "name": "own", "origins": [OTHER]}
    call = call_on(protected(API_KEY, ACCESS, operation=(inner,)), ("origin", ORIGIN), ("x-skerry-key", "tmk_good"))
    assert run(call) is None
    assert call.fields == b"vary: Origin\r\n"


def test_two_origins_in_one_call_count_as_none() -> None:
    call = call_on(protected(API_KEY, ACCESS), ("origin", ORIGIN), ("origin", ORIGIN))
    run(call)
    assert call.fields == b"vary: Origin\r\n"


@pytest.mark.parametrize(
    ("headers", "unsafe"),
    [
        ([("accept", "text/html")], []), ([("content-type", "text/plain; charset=utf-8")], []),
        ([("Content-Type", "application/json")], ["content-type"]), ([("X-Key", "1")], ["x-key"]),
        ([("accept", "a" * 129)], ["accept"]),
    ],
)  # fmt: skip
def test_which_headers_make_a_browser_ask_first(headers: list[tuple[str, str]], unsafe: list[str]) -> None:
    assert unsafe_headers(headers) == unsafe


@pytest.mark.parametrize(
    ("changes", "origin", "method", "headers", "credentials", "outcome"),
    [
        ({}, ORIGIN, "GET", [], False, (False, True, True)),
        ({}, ORIGIN, "GET", [("x-skerry-key", "k")], False, (True, True, True)),
        ({}, OTHER, "GET", [], False, (False, True, False)),
        ({}, OTHER, "GET", [("x-skerry-key", "k")], False, (True, False, False)),
        ({}, ORIGIN, "PUT", [], False, (True, True, True)),
        ({}, ORIGIN, "DELETE", [], False, (True, False, False)),
        ({}, ORIGIN, "POST", [], False, (False, True, False)),
        ({}, ORIGIN, "GET", [], True, (False, True, False)),
        ({"credentials": True}, ORIGIN, "GET", [("x-skerry-key", "k")], True, (True, True, True)),
        ({"origins": ["*"]}, OTHER, "GET", [], False, (False, True, True)),
        ({"origins": ["*"]}, OTHER, "GET", [], True, (False, True, False)),
        (None, ORIGIN, "GET", [], False, (False, True, False)),
        (None, ORIGIN, "PUT", [], False, (True, False, False)),
    ],
)  # fmt: skip
def test_what_a_browser_would_do(
    changes: Any, origin: str, method: str, headers: Any, credentials: bool, outcome: Any
) -> None:
    judged = judge(rule(**changes) if changes is not None else None, origin, method, headers, credentials)
    assert (judged.asks_first, judged.sent, judged.read) == outcome
    assert judged.decided_by
    assert judged.read is all(step.passes for step in judged.steps)


@given(
    origin=st.sampled_from([ORIGIN, OTHER, "https://a.tern.example"]),
    method=st.sampled_from(["GET", "POST", "PUT", "DELETE"]),
    headers=st.lists(st.sampled_from([("x-skerry-key", "k"), ("x-other", "1"), ("accept", "*/*")]), unique=True),
    credentials=st.booleans(),
    allowed=st.booleans(),
)
def test_a_page_reads_only_what_the_rule_names(
    origin: str, method: str, headers: Any, credentials: bool, allowed: bool
) -> None:
    judged = judge(rule(credentials=allowed), origin, method, headers, credentials)
    named = origin != OTHER and method in ("GET", "PUT") and all(name != "x-other" for name, _ in headers)
    assert judged.read is (named and (allowed or not credentials))


def test_the_review_warns_of_any_origin_and_of_a_key_that_pages_may_not_send() -> None:
    wide = [one.text for one in risks(protected(API_KEY, ACCESS | {"origins": ["*"]}))]
    assert "every operation is open to pages of any origin" in wide
    keyless = risks(protected(API_KEY | {"query": ""}, ACCESS | {"headers": []}))
    assert any("may not send x-skerry-key" in one.text for one in keyless)
    assert not any("may not send" in one.text for one in risks(protected(API_KEY, ACCESS)))
