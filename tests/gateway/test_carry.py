"""The gateway on a real socket: calls carried, calls refused, and requests that are not what they should be."""

from collections.abc import Iterator
from unittest.mock import ANY
from urllib.parse import parse_qs, urlsplit

import pytest

from gateway.harness import KEY, Node, running
from helpers import configuration
from tamarack.core.carrying.needs import Failed
from tamarack.core.carrying.refusals import REASONS
from tamarack.core.http.addresses import networks
from tamarack.gateway.upstream.scripted import Asked, ScriptedAnswer, ScriptedUpstream

PATH = "/sailings/v2/sailings"


def answering(asked: Asked) -> ScriptedAnswer | Failed:
    """What the scripted backend says, by the path it is asked for."""
    path = asked.head.split(b" ")[1].partition(b"?")[0]
    if path == b"/sailings/away":
        return Failed("away", "took no connection")
    if path == b"/sailings/slow":
        return Failed("slow", "sent nothing")
    if path == b"/sailings/broken":
        return Failed("broken", "not HTTP")
    if path == b"/sailings/cut":
        return ScriptedAnswer(200, [(b"content-length", b"10")], (b"half", b""), Failed("broken", "cut"))
    if path == b"/sailings/none":
        return ScriptedAnswer(204, [(b"x-a", b"1")])
    if path == b"/sailings/same":
        return ScriptedAnswer(304, [(b"etag", b'"1"'), (b"content-length", b"99")])
    if path == b"/sailings/pieces":
        return ScriptedAnswer(200, [(b"x-a", b"1")], (b"one ", b"two"))
    if path == b"/sailings/hops":
        fields = [
            (b"connection", b"x-secret"),
            (b"x-secret", b"1"),
            (b"keep-alive", b"9"),
            (b"set-cookie", b"a=1"),
            (b"set-cookie", b"b=2"),
        ]
        return ScriptedAnswer(200, fields, (b"",))
    if asked.method == "HEAD":
        return ScriptedAnswer(200, [(b"content-length", b"5")])
    return ScriptedAnswer(200, [(b"content-type", b"text/plain"), (b"content-length", b"5")], (b"hello",))


@pytest.fixture(scope="module")
def upstream() -> ScriptedUpstream:
    return ScriptedUpstream(answering)


@pytest.fixture(scope="module")
def node(upstream: ScriptedUpstream) -> Iterator[Node]:
    made = configuration(
        everywhere=[{"kind": "body-size", "at_most": "100 B"}],
        version={"operations": [
            {"call": "get /sailings"}, {"call": "post /sailings"}, {"call": "get /sailings/{id}"},
            {"call": "get /ports", "policies": [{"kind": "open"}]},
            {"call": "get /limited", "policies": [{"kind": "rate-limit", "name": "steady", "windows": ["2 per day"]}]},
        ]},
    )  # fmt: skip
    with running(made, upstream, head_limit_bytes=2048, head_timeout_ms=400) as running_node:
        yield running_node


def test_a_call_with_a_key_and_a_subscription_is_carried(node: Node, upstream: ScriptedUpstream) -> None:
    reply = node.get(f"{PATH}?day=2026-11-23", "Accept: text/plain", "User-Agent: kiosk/1")
    assert (reply.status, reply.body) == (200, b"hello")
    head = upstream.asked[-1].head
    assert head.startswith(b"GET /sailings?day=2026-11-23 HTTP/1.1\r\nhost: 127.0.0.1:9\r\n")
    assert KEY.encode() not in head
    assert b"accept: text/plain" in head
    assert b'forwarded: for=127.0.0.1;host="gateway.example";proto=http' in head
    assert b"x-forwarded-host: gateway.example" in head
    found = node.last_record(reply["tamarack-call-id"])
    assert (found.api, found.operation, found.application, found.status) == ("sailings", "get /sailings", "kiosk", 200)
    assert (found.path, found.response_bytes, found.agent) == (PATH, 5, "kiosk/1")


@pytest.mark.parametrize(
    ("method", "path", "key", "reason"),
    [
        ("GET", PATH, "", "no-credential"), ("GET", PATH, "tmk_wrong", "unknown-credential"),
        ("GET", PATH, "tmk_unsubscribed", "not-subscribed"), ("GET", "/nowhere", KEY, "unknown-path"),
        ("DELETE", PATH, KEY, "wrong-method"), ("GET", "/sailings/v2/../x", KEY, "bad-path"),
        ("GET", f"{PATH}/away", KEY, "backend-away"), ("GET", f"{PATH}/slow", KEY, "backend-slow"),
        ("GET", f"{PATH}/broken", KEY, "backend-broken"),
    ],
)  # fmt: skip
def test_a_refusal_is_problem_details_with_its_call_id(
    node: Node, method: str, path: str, key: str, reason: str
) -> None:
    reply = node.get(path, key=key, method=method)
    expected = REASONS[reason]
    assert reply.status == expected.status
    problem = reply.problem
    if reason == "no-credential":  # a caller that showed nothing is told what to show
        problem["detail"] = problem["detail"].replace(
            ": send a key in the header x-skerry-key or in the query as ?key=.", "."
        )
    asked = parse_qs(urlsplit(problem["instance"]).query)
    assert problem["instance"].startswith(problem["type"])
    assert asked.pop("call") == [problem["call_id"]]
    known = reason not in ("unknown-path", "wrong-method", "bad-path")
    assert asked == ({"api": ["sailings"], "version": ["2"], "operation": [ANY]} if known else {})
    assert problem["type"] == f"http://portal.example/reasons/{reason}"
    assert (problem["status"], problem["title"], problem["detail"]) == (
        expected.status,
        expected.title,
        expected.detail,
    )
    assert problem["call_id"] == reply["tamarack-call-id"]
    assert ("www-authenticate" in reply) == (reply.status == 401)
    assert node.last_record(problem["call_id"]).reason == reason
    if reason == "wrong-method":
        assert reply["allow"] == "GET, HEAD, POST"


def test_over_the_limit_a_call_is_told_when_to_come_again(node: Node) -> None:
    replies = [node.get("/sailings/v2/limited") for _ in range(3)]
    assert [reply.status for reply in replies] == [200, 200, 429]
    assert replies[0]["ratelimit-policy"] == '"steady";q=2;w=86400'
    assert [reply["ratelimit"].split(";t=")[0] for reply in replies] == ['"steady";r=1', '"steady";r=0', '"steady";r=0']
    assert 1 <= int(replies[2]["retry-after"]) <= 86400
    assert replies[2]["retry-after"] == replies[2]["ratelimit"].split(";t=")[1]


def test_an_open_operation_needs_no_key(node: Node) -> None:
    assert node.get("/sailings/v2/ports", key="").status == 200


def raw(text: str, body: bytes = b"") -> bytes:
    return text.replace("\n", "\r\n").encode("latin-1") + b"\r\n\r\n" + body


@pytest.mark.parametrize(
    "request_bytes",
    [
        raw("GET /sailings/v2/ports HTTP/1.1"),
        raw("GET /sailings/v2/ports HTTP/1.1\nHost: a\nHost: a"),
        raw("GET * HTTP/1.1\nHost: a"),
        raw(
            "POST /sailings/v2/sailings HTTP/1.1\nHost: a\nContent-Length: 3\nTransfer-Encoding: chunked", b"0\r\n\r\n"
        ),
        raw("POST /sailings/v2/sailings HTTP/1.1\nHost: a\nContent-Length: 3\nContent-Length: 4", b"abcd"),
        raw("POST /sailings/v2/sailings HTTP/1.1\nHost: a\nContent-Length: -1"),
        raw("POST /sailings/v2/sailings HTTP/1.1\nHost: a\nTransfer-Encoding: gzip, chunked, x"),
        raw("POST /sailings/v2/sailings HTTP/1.0\nHost: a\nTransfer-Encoding: chunked", b"0\r\n\r\n"),
        raw(
            "POST /sailings/v2/sailings HTTP/1.1\nHost: a\nConnection: upgrade\nUpgrade: h2c\nContent-Length: 3", b"abc"
        ),
        b"GET /sailings/v2/ports HTTP/1.1\nHost: a\n\n",
        raw("GET /sailings/v2/ports HTTP/1.1\nHost: a\n X-Folded: b"),
        raw("GET /sailings/v2/ports HTTP/1.1\nHost : a"),
        raw("GET /sailings/v2/ports HTTP/1.1\nHost: a\nX-A: b\x00c"),
        raw("NOTHING"),
    ],
)
def test_a_request_that_can_be_read_two_ways_is_refused_and_the_connection_closed(
    node: Node, request_bytes: bytes
) -> None:
    with node.caller() as caller:
        reply = caller.ask(request_bytes)
        assert reply.status == 400
        assert reply.problem["reason"] == "ambiguous-request"
        assert caller.closed()


def test_an_absolute_target_counts_in_place_of_host(node: Node, upstream: ScriptedUpstream) -> None:
    assert node.ask(raw("GET http://b.example:81/sailings/v2/ports HTTP/1.1\nHost: a")).status == 200
    assert b'host="b.example:81"' in upstream.asked[-1].head
    assert b"x-forwarded-host: b.example:81\r\n" in upstream.asked[-1].head


@pytest.mark.parametrize(
    "request_bytes",
    [
        raw("GET /sailings/v2/ports HTTP/1.1\nHost: a\nX-Large: " + "x" * 3000),
        raw("GET /sailings/v2/ports?" + "x" * 3000 + " HTTP/1.1\nHost: a"),
        raw("GET /sailings/v2/ports HTTP/1.1\nHost: a\n" + "\n".join(f"X-{n}: {n}" for n in range(400))),
    ],
)
def test_a_head_that_is_too_large_is_refused(node: Node, request_bytes: bytes) -> None:
    reply = node.ask(request_bytes)
    assert (reply.status, reply.problem["reason"]) == (431, "head-too-large")


def test_a_head_that_never_ends_is_cut_off_while_it_grows(node: Node) -> None:
    with node.caller() as caller:
        caller.send(b"GET /sailings/v2/ports HTTP/1.1\r\nHost: a\r\nX-Large: ")
        caller.send(b"x" * 3000)
        assert caller.receive().status == 431


def test_a_head_that_does_not_come_in_time_ends_the_connection(node: Node) -> None:
    with node.caller() as caller:
        caller.send(b"GET /sailings/v2/ports HTTP/1.1\r\n")
        assert caller.closed()


def test_a_connection_carries_one_call_after_another_also_when_sent_at_once(node: Node) -> None:
    one = raw("GET /sailings/v2/ports HTTP/1.1\nHost: a")
    with node.caller() as caller:
        caller.send(one * 3 + raw("GET /nowhere HTTP/1.1\nHost: a"))
        assert [caller.receive().status for _ in range(4)] == [200, 200, 200, 404]


def test_head_and_answers_without_a_body_have_none(node: Node) -> None:
    with node.caller() as caller:
        head = caller.ask(raw(f"HEAD {PATH} HTTP/1.1\nHost: a\nX-Skerry-Key: {KEY}"), head_only=True)
        assert (head.status, head["content-length"]) == (200, "5")
        empty = caller.ask(raw(f"GET {PATH}/none HTTP/1.1\nHost: a\nX-Skerry-Key: {KEY}"))
        assert (empty.status, "content-length" in empty, "transfer-encoding" in empty) == (204, False, False)
        same = caller.ask(raw(f"GET {PATH}/same HTTP/1.1\nHost: a\nX-Skerry-Key: {KEY}"))
        assert (same.status, same["etag"]) == (304, '"1"')
        missing = caller.ask(raw("HEAD /nowhere HTTP/1.1\nHost: a"), head_only=True)
        assert missing.status == 404
        assert caller.ask(raw("GET /sailings/v2/ports HTTP/1.1\nHost: a")).body == b"hello"


def test_a_body_of_unknown_length_comes_in_chunks_and_to_http_1_0_until_the_close(node: Node) -> None:
    chunked = node.get(f"{PATH}/pieces")
    assert (chunked["transfer-encoding"], chunked.body) == ("chunked", b"one two")
    old = node.ask(raw(f"GET {PATH}/pieces HTTP/1.0\nHost: a\nX-Skerry-Key: {KEY}"))
    assert ("transfer-encoding" in old, old["connection"], old.body) == (False, "close", b"one two")


def test_an_answer_that_is_cut_off_is_cut_off_for_the_caller_too(node: Node) -> None:
    with node.caller() as caller:
        caller.send(raw(f"GET {PATH}/cut HTTP/1.1\nHost: a\nX-Skerry-Key: {KEY}"))
        with pytest.raises((ConnectionResetError, AssertionError)):
            assert len(caller.receive().body) == 10
    assert any(record.reason == "backend-broken" and record.status == 200 for record in node.records)


def test_fields_of_one_hop_stay_on_it_and_repeated_fields_stay_apart(node: Node, upstream: ScriptedUpstream) -> None:
    reply = node.get(f"{PATH}/hops", "Connection: X-Hop, keep-alive", "X-Hop: 1", "TE: trailers", "X-Real-IP: 1.1.1.1",
                     "Forwarded: for=6.6.6.6", "X-Forwarded-For: 6.6.6.6", "X-Twice: a", "X-Twice: b")  # fmt: skip
    assert [value for name, value in reply.fields if name == "set-cookie"] == ["a=1", "b=2"]
    assert "x-secret" not in reply
    assert "keep-alive" not in reply
    head = upstream.asked[-1].head
    for gone in (b"x-hop", b"te:", b"6.6.6.6", b"1.1.1.1", b"connection"):
        assert gone not in head.lower()
    assert b"x-twice: a\r\nx-twice: b\r\n" in head


def test_a_path_is_passed_on_as_it_was_written(node: Node, upstream: ScriptedUpstream) -> None:
    node.get(f"{PATH}/a%2Fb%20c?q=%zz&r=a+b")
    assert upstream.asked[-1].head.startswith(b"GET /sailings/a%2Fb%20c?q=%zz&r=a+b HTTP/1.1\r\n")


def post(fields: str, body: bytes) -> bytes:
    return raw(f"POST {PATH} HTTP/1.1\nHost: a\nX-Skerry-Key: {KEY}\n{fields}", body)


def test_bodies_reach_the_backend_by_length_and_in_chunks(node: Node, upstream: ScriptedUpstream) -> None:
    assert node.ask(post("Content-Length: 5", b"abcde")).status == 200
    assert upstream.asked[-1].body == b"abcde"
    assert b"content-length: 5\r\n" in upstream.asked[-1].head
    assert node.ask(post("Transfer-Encoding: chunked", b"3\r\nabc\r\n2;x=y\r\nde\r\n0\r\n\r\n")).status == 200
    assert upstream.asked[-1].body == b"abcde"
    assert b"transfer-encoding: chunked\r\n" in upstream.asked[-1].head


def test_a_body_over_the_limit_is_refused_before_and_while_it_is_read(node: Node) -> None:
    with node.caller() as caller:
        announced = caller.ask(post("Content-Length: 101", b"x" * 101))
        assert announced.problem["reason"] == "too-large"
        assert caller.ask(raw("GET /sailings/v2/ports HTTP/1.1\nHost: a")).status == 200
    found = node.ask(post("Transfer-Encoding: chunked", b"65\r\n" + b"x" * 101 + b"\r\n0\r\n\r\n"))
    assert (found.status, found.problem["reason"]) == (413, "too-large")


def test_expect_is_answered_by_the_gateway_and_only_where_the_body_is_wanted(
    node: Node, upstream: ScriptedUpstream
) -> None:
    with node.caller() as caller:
        caller.send(post("Content-Length: 3\nExpect: 100-continue", b""))
        assert caller.stream.readline().startswith(b"HTTP/1.1 100")
        caller.stream.readline()
        caller.send(b"abc")
        assert caller.receive().status == 200
    assert b"expect" not in upstream.asked[-1].head.lower()
    refused = node.ask(raw(f"POST {PATH} HTTP/1.1\nHost: a\nContent-Length: 3\nExpect: 100-continue"))
    assert (refused.status, refused.informational) == (401, [])


def test_a_rollout_is_taken_up_between_two_calls_of_one_connection(node: Node) -> None:
    before = node.gateway.serving
    one = raw("GET /night/ports HTTP/1.1\nHost: a")
    try:
        with node.caller() as caller:
            assert caller.ask(one).status == 404
            node.serve(configuration(version={"base_path": "/night"}), 2)
            after = caller.ask(one)
        assert after.status == 200
        assert node.last_record(after["tamarack-call-id"]).rollout == 2
    finally:
        node.gateway.serving = before


def test_a_key_revoked_by_the_feed_is_refused_at_the_next_call(node: Node) -> None:
    assert node.get(PATH).status == 200
    caller = node.directory.find(KEY.encode())
    assert caller is not None
    caller.revoked = True
    assert node.get(PATH).problem["reason"] == "revoked-credential"
    caller.revoked = False


def test_before_its_first_rollout_a_node_says_that_it_is_not_ready() -> None:
    with running(None, ScriptedUpstream(answering)) as fresh:
        reply = fresh.get(PATH)
        assert (reply.status, reply.problem["reason"], reply["retry-after"]) == (503, "not-ready", "1")


def test_a_forwarded_address_is_believed_only_from_a_trusted_proxy() -> None:
    trusted = networks("127.0.0.0/8, 10.0.0.0/8")
    with running(configuration(), ScriptedUpstream(answering), trusted=trusted) as behind:
        reply = behind.get("/sailings/v2/ports", "X-Forwarded-For: 6.6.6.6, 203.0.113.9, 10.1.2.3")
        assert behind.last_record(reply["tamarack-call-id"]).address == "203.0.113.9"
    with running(configuration(), ScriptedUpstream(answering)) as exposed:
        reply = exposed.get("/sailings/v2/ports", "X-Forwarded-For: 203.0.113.9")
        assert exposed.last_record(reply["tamarack-call-id"]).address == "127.0.0.1"
    with pytest.raises(ValueError, match="'x' is not an address or a network"):
        networks("10.0.0.0/8,x")


def test_a_node_that_is_full_closes_further_connections_and_keeps_serving_the_others() -> None:
    with running(configuration(), ScriptedUpstream(answering), most_connections=2) as full:
        one = raw("GET /sailings/v2/ports HTTP/1.1\nHost: a")
        with full.caller() as first, full.caller() as second:
            assert [first.ask(one).status, second.ask(one).status] == [200, 200]
            with full.caller() as third:
                assert third.closed()
            assert first.ask(one).status == 200


def test_an_end_is_said_once_whatever_the_backend_says_of_its_own() -> None:
    def ended(asked: Asked) -> ScriptedAnswer:
        fields = [(b"deprecation", b"@1"), (b"sunset", b"Thu, 01 Jan 1970 00:00:00 GMT"), (b"link", b"</a>; rel=next")]
        return ScriptedAnswer(200, [*fields, (b"content-length", b"0")])

    end = {"state": "deprecated", "sunset_on": "2027-02-28"}
    with running(configuration(version=end), ScriptedUpstream(ended)) as node:
        reply = node.get(PATH)
    said = [(name, value) for name, value in reply.fields if name in ("deprecation", "sunset", "link")]
    assert sorted(said) == [
        ("deprecation", "@1"),
        ("link", "</a>; rel=next"),
        ("link", '<http://portal.example/apis/sailings/2/>; rel="deprecation"; type="text/html"'),
        ("sunset", "Sun, 28 Feb 2027 00:00:00 GMT"),
    ]
