"""What a gateway refuses, settles, or takes off before anything is decided: on real sockets, byte by byte."""

import re
from collections.abc import Iterator

import pytest

from gateway.harness import KEY, Node, running
from gateway.test_carry import PATH, answering, post, raw
from helpers import configuration
from tamarack.core.carrying.needs import Failed
from tamarack.gateway.upstream.scripted import Asked, ScriptedAnswer, ScriptedUpstream

OPEN = "/sailings/v2/ports"


@pytest.fixture(scope="module")
def upstream() -> ScriptedUpstream:
    return ScriptedUpstream(answering)


@pytest.fixture(scope="module")
def node(upstream: ScriptedUpstream) -> Iterator[Node]:
    with running(configuration(), upstream, target_limit_bytes=1024) as running_node:
        yield running_node


@pytest.mark.parametrize(
    "host",
    ["a b", "a/b", 'a"b', "a@b", "a,b", "[::1", "[::g]", "a:b", "a:123456", "", "%zz", "a?b", "a#b", "a\\b", "x" * 300],
)
def test_a_host_that_is_none_by_the_grammar_is_refused(node: Node, host: str) -> None:
    reply = node.ask(raw(f"GET {OPEN} HTTP/1.1\nHost: {host}"))
    assert (reply.status, reply.problem["reason"]) == (400, "ambiguous-request")


@pytest.mark.parametrize("host", ["a", "a.example:8080", "[2001:db8::1]:80", "192.0.2.1", "a:", "xn--caf-dma.example"])
def test_a_host_is_passed_on_as_it_was_named(node: Node, upstream: ScriptedUpstream, host: str) -> None:
    assert node.ask(raw(f"GET {OPEN} HTTP/1.1\nHost: {host}")).status == 200
    assert f'host="{host}";proto=http'.encode() in upstream.asked[-1].head


@pytest.mark.parametrize(
    ("path", "sent"),
    [
        ("/sailings/%762/ports", b"/ports"), ("/s%61ilings/v2/ports", b"/ports"),
        (f"{PATH}/a%2fb", b"/sailings/a%2Fb"), (f"{PATH}/%41", b"/sailings/A"), (f"{PATH}/%25x", b"/sailings/%25x"),
    ],
)  # fmt: skip
def test_the_path_that_was_decided_over_is_the_path_that_is_sent(
    node: Node, upstream: ScriptedUpstream, path: str, sent: bytes
) -> None:
    assert node.get(path).status == 200
    assert upstream.asked[-1].head.split(b" ")[1] == sent


@pytest.mark.parametrize(
    "path", ["/a#b", "/%zz", "/%", "/a/%2e%2e/b", "/%252e%252e/b", "/a%2f..%2fb", "/a%00", "/a\\b"]
)
def test_a_path_with_more_than_one_meaning_is_refused_before_it_is_routed(node: Node, path: str) -> None:
    reply = node.get(f"/sailings/v2{path}")
    assert (reply.status, reply.problem["reason"]) == (400, "bad-path")


@pytest.mark.parametrize(
    ("request_line", "status", "reason"),
    [
        ("FOO /sailings/v2/ports HTTP/1.1", 501, "unknown-method"), ("CONNECT a:80 HTTP/1.1", 501, "unknown-method"),
        ("PROPFIND /sailings/v2/ports HTTP/1.1", 501, "unknown-method"), ("get /a HTTP/1.1", 501, "unknown-method"),
        ("TRACE /sailings/v2/ports HTTP/1.1", 405, "wrong-method"),
        (f"GET /{'x' * 2000} HTTP/1.1", 414, "target-too-long"), ("GET /a HTTP/2.0", 400, "ambiguous-request"),
        ("GET ftp://a/b HTTP/1.1", 400, "ambiguous-request"), ("GET http://u@a/b HTTP/1.1", 400, "ambiguous-request"),
        ("GET a/b HTTP/1.1", 400, "ambiguous-request"),
    ],
)  # fmt: skip
def test_a_request_line_that_is_not_carried_says_why(node: Node, request_line: str, status: int, reason: str) -> None:
    reply = node.ask(raw(f"{request_line}\nHost: a"))
    assert (reply.status, reply.problem["reason"]) == (status, reason)


def test_a_target_without_end_is_too_long_and_not_a_large_head(node: Node) -> None:
    with node.caller() as caller:
        caller.send(b"GET /" + b"x" * 40_000)
        assert caller.receive().status == 414


def test_a_server_is_asked_as_a_whole_what_it_takes(node: Node) -> None:
    reply = node.ask(raw("OPTIONS * HTTP/1.1\nHost: a"))
    assert (reply.status, "content-length" in reply) == (204, False)
    assert "DELETE" in reply["allow"]


@pytest.mark.parametrize(
    ("coding", "status", "reason"),
    [
        ("gzip, chunked", 501, "unknown-coding"), ("gzip", 400, "ambiguous-request"),
        ("chunked, chunked", 400, "ambiguous-request"), ("xchunked", 400, "ambiguous-request"),
    ],
)  # fmt: skip
def test_a_transfer_coding_other_than_chunked_is_refused(node: Node, coding: str, status: int, reason: str) -> None:
    reply = node.ask(post(f"Transfer-Encoding: {coding}", b"0\r\n\r\n"))
    assert (reply.status, reply.problem["reason"]) == (status, reason)


def test_extensions_of_chunks_are_read_with_their_blanks_and_left_out(node: Node, upstream: ScriptedUpstream) -> None:
    body = b'3 ; a = b ;c\r\nabc\r\n2;\tq="x; \\"y"\r\nde\r\n0;z\r\n\r\n'
    assert node.ask(post("Transfer-Encoding: chunked", body)).status == 200
    assert upstream.asked[-1].body == b"abcde"


@pytest.mark.parametrize(
    "body",
    [b"3\nabc\r\n0\r\n\r\n", b"3\r\nabcd\r\n0\r\n\r\n", b"-1\r\n", b"0x3\r\nabc\r\n", b"3 \r\nabc\r\n", b"\r\nabc\r\n",
     b"fffffffffffffffff\r\n", b"3;=\r\nabc\r\n", b"0\r\nno field\r\n\r\n", b"0\r\na: b\rc\r\n\r\n"],
)  # fmt: skip
def test_a_body_whose_chunks_cannot_be_read_ends_the_call(node: Node, body: bytes) -> None:
    with node.caller() as caller:
        reply = caller.ask(post("Transfer-Encoding: chunked", body))
        assert (reply.status, reply.problem["reason"]) == (400, "ambiguous-request")
        assert caller.closed()


@pytest.mark.parametrize("cut", [0, 1])
def test_trailers_never_become_fields(node: Node, upstream: ScriptedUpstream, cut: int) -> None:
    trailers = f"0\r\nX-Skerry-Key: {KEY}\r\nHost: evil.example\r\nX-Forwarded-For: 6.6.6.6\r\n\r\n".encode()
    keyless = raw(f"POST {PATH} HTTP/1.1\nHost: a\nTransfer-Encoding: chunked")
    with node.caller() as caller:
        caller.send(keyless)
        for piece in [trailers] if not cut else [trailers[place : place + 1] for place in range(len(trailers))]:
            caller.send(piece)
        assert caller.receive().problem["reason"] == "no-credential"
    reply = node.ask(post("Transfer-Encoding: chunked", trailers.replace(KEY.encode(), b"other")))
    assert reply.status == 200
    for name in (b"evil", b"6.6.6.6", b"other"):
        assert name not in upstream.asked[-1].head + upstream.asked[-1].body


def test_fields_that_connection_lists_are_gone_before_anything_looks_and_cannot_take_away_the_gateways(
    node: Node, upstream: ScriptedUpstream
) -> None:
    assert node.get(PATH, "Connection: x-skerry-key").problem["reason"] == "no-credential"
    listed = "Connection: forwarded, x-forwarded-for, tamarack-call-id, host, x-mine"
    assert node.get(PATH, listed, "X-Mine: 1").status == 200
    head = upstream.asked[-1].head
    for name in (b"\r\nforwarded: for=127.0.0.1", b"\r\nx-forwarded-for: 127.0.0.1", b"\r\ntamarack-call-id: "):
        assert name in head
    assert b"x-mine" not in head


@pytest.mark.parametrize(
    "name",
    ["X_Forwarded_For", "x_real_ip", "Proxy", "X-Original-URL", "X-Rewrite-Url", "X-HTTP-Method-Override", "True-Client-IP",
     "X-Forwarded-Prefix", "Tamarack_Call_Id", "X-Host", "TE", "Trailer", "Keep-Alive"],
)  # fmt: skip
def test_a_field_by_which_a_backend_could_read_another_call_is_not_passed_on(
    node: Node, upstream: ScriptedUpstream, name: str
) -> None:
    assert node.get(PATH, f"{name}: /evil-6.6.6.6").status == 200
    assert b"evil" not in upstream.asked[-1].head


def test_max_forwards_is_counted_down_and_ends_here_at_nothing() -> None:
    made = configuration(version={"operations": [{"call": "options /ports", "policies": [{"kind": "open"}]}]})
    script = ScriptedUpstream(answering)
    with running(made, script) as node:
        assert node.get(OPEN, "Max-Forwards: 2", key="", method="OPTIONS").status == 200
        assert b"max-forwards: 1\r\n" in script.asked[-1].head
        last = node.get(OPEN, "Max-Forwards: 0", key="", method="OPTIONS")
        assert (last.status, last["allow"], len(script.asked)) == (204, "OPTIONS", 1)


def saying(*fields: tuple[bytes, bytes], status: int = 200) -> ScriptedUpstream:
    def script(asked: Asked) -> ScriptedAnswer | Failed:
        return ScriptedAnswer(status, list(fields), (b"",))

    return ScriptedUpstream(script)


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ("http://127.0.0.1:9/sailings/7?a=b", "http://gateway.example/sailings/v2/sailings/7?a=b"),
        ("http://127.0.0.1:9", "http://gateway.example/sailings/v2"), ("/sailings/7#x", "/sailings/v2/sailings/7#x"),
        ("https://elsewhere.example/a", "https://elsewhere.example/a"), ("//elsewhere.example/a", "//elsewhere.example/a"),
        ("seven", "seven"),
    ],
)  # fmt: skip
def test_addresses_of_the_backend_in_an_answer_become_the_gateways(said: str, told: str) -> None:
    fields = ((b"location", said.encode()), (b"content-location", said.encode()))
    with running(configuration(), saying(*fields, status=201)) as node:
        reply = node.get(OPEN)
        assert (reply["location"], reply["content-location"]) == (told, told)


def test_an_answer_has_one_date_one_call_id_and_no_length_where_there_is_no_body() -> None:
    with running(
        configuration(), saying((b"tamarack-call-id", b"forged"), (b"content-length", b"0"), status=204)
    ) as node:
        reply = node.get(OPEN)
        names = [name for name, _ in reply.fields]
        assert (names.count("date"), names.count("tamarack-call-id"), "content-length" in names) == (1, 1, False)
        assert reply["tamarack-call-id"] != "forged"
    dated = b"Fri, 27 Nov 2026 08:00:00 GMT"
    with running(configuration(), saying((b"date", dated))) as node:
        assert [value for name, value in node.get(OPEN).fields if name == "date"] == [dated.decode()]


def test_a_caller_of_http_1_0_is_not_told_to_continue(node: Node) -> None:
    old = f"POST {PATH} HTTP/1.0\nX-Skerry-Key: {KEY}\nContent-Length: 3\nExpect: 100-continue"
    reply = node.ask(raw(old, b"abc"))
    assert (reply.status, reply.informational) == (200, [])


def test_a_good_request_is_answered_though_a_bad_one_follows_it_at_once(node: Node) -> None:
    with node.caller() as caller:
        caller.send(raw(f"GET {OPEN} HTTP/1.1\nHost: a") + raw(f"GET {OPEN} HTTP/1.1\nHost: a b") + b"more")
        assert [caller.receive().status for _ in range(2)] == [200, 400]
        assert caller.closed()


def test_what_nobody_thought_of_is_a_problem_with_a_call_id_a_record_and_a_line_in_the_log() -> None:
    def broken(asked: Asked) -> ScriptedAnswer | Failed:
        return ScriptedAnswer(200, [(b"location", None)], (b"",))  # type: ignore[list-item]

    with running(configuration(), ScriptedUpstream(broken)) as node, node.caller() as caller:
        reply = caller.ask(raw(f"GET {OPEN} HTTP/1.1\nHost: a\nX-Secret: {KEY}"))
        assert (reply.status, reply.problem["reason"]) == (500, "internal-error")
        id = reply.problem["call_id"]
        assert node.last_record(id).reason == "internal-error"
        (line,) = [said for said in node.said if id in said]
        assert re.search(r"(Attribute|Type)Error at \w+\.py:\d+ \w+; .*forwarding\.py", line)  # as Python, or compiled
        assert KEY not in line
        assert caller.ask(raw("GET /nowhere HTTP/1.1\nHost: a")).status == 404


def test_credentials_of_our_own_and_our_cookies_reach_no_backend(node: Node, upstream: ScriptedUpstream) -> None:
    own = "tmk_" + "a2" * 18
    fields = (f"X-Other-Key: {own}", "Cookie: tamarack_console=abc; theme=dark")
    assert node.get(f"{PATH}?day=1&other={own}", *fields).status == 200
    sent = upstream.asked[-1].head
    assert b"tmk_" not in sent
    assert b"tamarack_console" not in sent
    assert b"cookie: theme=dark\r\n" in sent
    assert b"?day=1 HTTP/1.1" in sent


def test_blanks_around_a_key_are_no_part_of_it(node: Node) -> None:
    assert node.get(PATH, f"X-Skerry-Key:  \t{KEY} \t ", key="").status == 200
