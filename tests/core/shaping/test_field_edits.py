"""Fields changed on their way: what is typed is what is done, and whatever a value holds, the message stays one message."""

from typing import Any
from urllib.parse import parse_qsl, quote_from_bytes

import httptools
import minijinja
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.carried import Bed, carry, sends
from helpers import configuration, material
from tamarack.core.balancing.route import Choice, Route
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.needs import Ask
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import target_at
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.policies.returns.answer_fields import AnswerFields
from tamarack.core.policies.shape.request_fields import RequestFields
from tamarack.core.shaping.field_edits import compiled, parse
from tamarack.core.shaping.wanted import body_wanted
from tamarack.core.values.template import Template

TARGET = target_at("http://127.0.0.1:9", 1000, 1000)


def bed(*policies: dict[str, Any]) -> Bed:
    made = configuration(version={"policies": [{"kind": "open"}, *policies],
                                  "operations": [{"call": "get /sailings/{id}"}, {"call": "post /sailings"}]})  # fmt: skip
    routes = {"timetable": Route((Choice(TARGET),))}
    return Bed(made, CallerDirectory(bytes(32), "production"), material(), routes=routes)


def sent(edits: list[str], path: bytes = b"/sailings/v2/sailings/G-1", query: bytes = b"", method: str = "GET", **more: Any) -> tuple[
    str, list[tuple[str, str]]]:  # fmt: skip
    """The path with its query, and the fields, as a target reads the request."""
    on = bed({"kind": "request-fields", "edits": edits})
    heads: list[bytes] = []

    def backend(ask: Ask, body: bytes) -> Any:
        heads.append(ask.head)
        return Answered(204, [], b""), ()

    outcome = carry(on.call(method, path, query, **more), backend=backend)
    assert isinstance(outcome, Passed), outcome
    read = Reading()
    parser = httptools.HttpRequestParser(read)
    parser.feed_data(heads[0])
    assert read.messages == 1
    return read.url.decode(), read.fields


class Reading:
    """What a parser of HTTP/1 makes of some bytes."""

    def __init__(self) -> None:
        self.url, self.messages = b"", 0
        self.fields: list[tuple[str, str]] = []

    def on_url(self, url: bytes) -> None:
        self.url += url

    def on_header(self, name: bytes, value: bytes) -> None:
        self.fields.append((name.decode(), value.decode("latin-1")))

    def on_headers_complete(self) -> None:
        self.messages += 1


@pytest.mark.parametrize(
    ("edits", "url", "header"),
    [
        (["set header X-Ship: {{ path.id }}"], "/sailings/G-1?q=a&q=b", ["G-1"]),
        (["set header X-Ship: {{ query.q }} of {{ call.method }}"], "/sailings/G-1?q=a&q=b", ["a of GET"]),
        (["add header X-Ship: lark"], "/sailings/G-1?q=a&q=b", ["old", "lark"]),
        (["set header X-Ship: {{ query.none }}"], "/sailings/G-1?q=a&q=b", []),
        (["remove header X-Ship"], "/sailings/G-1?q=a&q=b", []),
        (["set header X-New: wren", "rename header X-New to X-Ship"], "/sailings/G-1?q=a&q=b", ["wren"]),
        (["rename header X-None to X-Ship"], "/sailings/G-1?q=a&q=b", ["old"]),
        (["set query q: {{ header['x-ship'] }} & more"], "/sailings/G-1?q=old%20%26%20more", ["old"]),
        (["add query lang: en"], "/sailings/G-1?q=a&q=b&lang=en", ["old"]),
        (["remove query q"], "/sailings/G-1", ["old"]),
        (["rename query q to search"], "/sailings/G-1?search=a&search=b", ["old"]),
        (["remove query q", "set query lang: {{ claims.none }}"], "/sailings/G-1", ["old"]),
    ],
)
def test_edits_are_made_in_their_order(edits: list[str], url: str, header: list[str]) -> None:
    found, fields = sent(edits, query=b"q=a&q=b", headers=[(b"x-ship", b"old")])
    assert found == url
    assert [value for name, value in fields if name == "x-ship"] == header


@given(st.text(max_size=60), st.binary(max_size=60))
def test_whatever_a_value_holds_the_message_stays_one_message_of_the_same_fields(typed: str, given_by: bytes) -> None:
    try:
        edit = str(parse(f"set header X-Typed: {typed.replace('{', '(')}"))
    except ValueError:
        edit = "set header X-Typed: plain"
    edits = [edit, "set header X-Given: {{ query.q }}", "set query given: {{ query.q }}"]
    url, fields = sent(edits, query=b"q=" + quote_from_bytes(given_by).encode())
    names = [name for name, _ in fields]
    assert set(names) - {"x-typed", "x-given", "host", "forwarded", "x-forwarded-for", "x-forwarded-host",
                         "x-forwarded-proto", "via", "tamarack-call-id"} == set()  # fmt: skip
    assert all(names.count(name) == 1 for name in names)
    _, _, query = url.partition("?")
    assert [name for name, _ in parse_qsl(query, keep_blank_values=True)] == (["q", "given"] if given_by else ["q"])


@given(st.text(max_size=80))
def test_a_line_is_an_edit_that_reads_as_it_is_written_or_is_refused(line: str) -> None:
    for text in (line, f"set header X-A: {line}", f"rename query {line} to b", f"remove header {line}"):
        try:
            edit = parse(text)
        except ValueError:
            continue
        assert parse(str(edit)) == edit


@pytest.mark.parametrize(
    ("edit", "words"),
    [
        ("put header X-A: b", "is not an edit of a field"),
        ("set header X-A", "has no value"),
        ("rename header X-A", "has no new name"),
        ("remove header X-A: b", "says more than a remove needs"),
        ("set header X A: b", "is not an edit of a field"),
        ("set header X-A: a\nX-B: c", "more than one line"),
        ("set header X-A: {{ secret.key }}", "is not known of a call"),
        ("set header X-A: {{ path.id", "end of|unexpected|syntax"),
        ("set header Host: b", "a meaning of its own"),
        ("set header Content-Length: 3", "a meaning of its own"),
        ("remove header X-Forwarded-For", "written or taken off by the gateway itself"),
        ("set header X_Forwarded_For: 1", "written or taken off by the gateway itself"),
        ("set header Keep-Alive: 1", "written or taken off by the gateway itself"),
        ("set header X-HTTP-Method-Override: DELETE", "written or taken off by the gateway itself"),
        ("set header Authorization: Bearer x", "carries a credential"),
        ("rename header X-Token to Authorization", "carries a credential"),
        ("rename header Authorization to X-Token", "carries a credential"),
        ("set query a=b: c", "is not a name of a parameter"),
    ],
)
def test_an_edit_that_cannot_be_is_refused_in_words(edit: str, words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        RequestFields.model_validate({"edits": [edit]})


@pytest.mark.parametrize("edit", ["set query a: b", "set header Set-Cookie2: a", "remove header Date", "set header Via: x",
                                  "set header Access-Control-Allow-Origin: *", "set header Transfer-Encoding: chunked",
                                  "set header Tamarack-Call-Id: 1"])  # fmt: skip
def test_answers_have_no_query_and_keep_what_the_gateway_says(edit: str) -> None:
    if edit.startswith(("set header Set-Cookie2", "set header Via")):
        assert AnswerFields.model_validate({"edits": [edit]})
        return
    with pytest.raises(ValidationError):
        AnswerFields.model_validate({"edits": [edit]})


def test_answers_are_changed_also_those_that_are_made_here() -> None:
    edits = {"kind": "answer-fields", "edits": ["set header X-Ship: {{ path.id }}", "remove header Server"]}
    call = bed(edits).call("GET", b"/sailings/v2/sailings/G-1")
    head = Answered(200, [(b"server", b"old"), (b"x-ship", b"none")], b"{}")
    answer = carry(call, backend=lambda ask, body: (head, ()))
    assert isinstance(answer, Passed)
    assert answer.fields == b"x-ship: G-1\r\n"
    fixed = {"kind": "fixed-answer", "status": 200, "body": "{}"}
    reply = carry(bed(edits, fixed).call("GET", b"/sailings/v2/sailings/G-2"))
    assert isinstance(reply, Reply)
    assert reply.fields == b"content-type: application/json\r\nx-ship: G-2\r\n"


def test_they_hold_only_for_calls_that_are_meant() -> None:
    policy = {"when": ["body /cars is more than 2"]}
    for body, made in ((b'{"cars": 3}', True), (b'{"cars": 2}', False), (b"", False)):
        on = bed({"kind": "request-fields", "edits": ["set header X-Many: {{ body.cars }}"]} | policy)
        call = on.call("POST", b"/sailings/v2/sailings")
        sends(call, body)
        call.media = b"application/json"
        carry(call)
        assert ((b"x-many", b"3") in call.headers) is made


def test_a_value_that_cannot_be_made_refuses_the_call_and_says_where() -> None:
    call = bed({"kind": "request-fields", "edits": ["set header X-A: {{ path.id | no_such_filter }}"]}).call(
        "GET", b"/sailings/v2/sailings/G-1"
    )
    refusal = carry(call)
    assert isinstance(refusal, Refusal)
    assert (refusal.reason.code, refusal.policy) == ("change-failed", "request-fields")


def test_plain_edits_look_at_nothing_of_the_call() -> None:
    headers, query = compiled([parse("set header X-A: b"), parse("remove query q")])([(b"x-b", b"c")], b"q=1&r=2", None)  # type: ignore[arg-type]
    assert (headers, query) == ([(b"x-b", b"c"), (b"x-a", b"b")], b"r=2")


@given(
    st.lists(st.sampled_from(["{{ path.id }}", "{{query.q}}", "{{ header['x-a'] }}", '{{ header["none"] }}', "{{ caller.application }}",
                              "{{ call.method }}", "{{ query['a b'] }}", "{{ path.none }}", " - ", "{", "}}", "%"]), max_size=6),
    st.binary(max_size=12),
)  # fmt: skip
def test_values_that_are_looked_up_come_out_as_the_language_would_give_them(parts: list[str], value: bytes) -> None:
    """The short way past the language is compared with the language itself, which a comment in the text asks for."""
    text = "".join(parts)
    call = bed().call("GET", b"/sailings/v2/sailings/G-1", b"q=" + quote_from_bytes(value).encode() + b"&a+b=c",
                      headers=[(b"x-a", value.replace(b"\n", b""))])  # fmt: skip
    try:
        short = Template(text)
    except minijinja.TemplateError:
        return
    assert short.made_for(call) + b" " == Template(text + " {# the long way #}").made_for(call)


@pytest.mark.parametrize(
    ("text", "read"),
    [
        ("everybody", False),
        ("{{ query.body }}", False),
        ("body: {{ path.ship }}", False),
        ("{{ body.ship }}", True),
        ("{{ body['ship'] | upper }}", True),
        ("{% if body %}some{% endif %}", True),
    ],
)
def test_a_body_is_read_only_for_a_text_that_takes_from_it(text: str, read: bool) -> None:
    assert (body_wanted((), "plain", text) > 0) is read
