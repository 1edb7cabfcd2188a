"""Bodies changed on their way: edited as JSON, brought to XML, forms and back, made from texts; or refused in words."""

import json
from typing import Any

import orjson
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.carried import Bed, carry, sends
from helpers import configuration, material
from tamarack.core.balancing.route import Choice, Route
from tamarack.core.carrying.needs import Ask
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import target_at
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.policies.returns.answer_body import AnswerBody
from tamarack.core.policies.shape.request_body import RequestBody
from tamarack.core.shaping import json_bodies
from tamarack.core.shaping.json_edits import compiled, parse
from tamarack.core.shaping.xml_json import NotConverted, XmlForm, from_xml, to_xml
from tamarack.core.told.trace import Trace

TARGET = target_at("http://127.0.0.1:9", 1000, 1000)
JSON, XML, FORM = "application/json", "application/xml", "application/x-www-form-urlencoded"
PLAIN = XmlForm()
NAMES = st.text("abcxyz_", min_size=1, max_size=6)
TEXTS = st.text(st.characters(codec="utf-8", exclude_categories=["C", "Z"]), min_size=1, max_size=12)
LEAVES = st.one_of(TEXTS, st.none())
TREES = st.recursive(LEAVES, lambda inner: st.one_of(
    st.dictionaries(NAMES, st.one_of(inner, st.lists(inner.filter(lambda one: not isinstance(one, list)), min_size=2, max_size=3)),
                    min_size=1, max_size=4)), max_leaves=20)  # fmt: skip


class Passing:
    """Calls through one policy, and what the backend was asked and answered."""

    def __init__(self, *policies: dict[str, Any]) -> None:
        made = configuration(version={"policies": [{"kind": "open"}, *policies],
                                      "operations": [{"call": "any /sailings"}]})  # fmt: skip
        routes = {"timetable": Route((Choice(TARGET),))}
        self.bed = Bed(made, CallerDirectory(bytes(32), "production"), material(), routes=routes)
        self.asked: list[tuple[dict[bytes, bytes], bytes]] = []

    def send(self, body: bytes = b"", media: str = JSON, method: str = "POST", answer: bytes = b"", status: int = 200,
             gives: str = JSON, more: list[tuple[bytes, bytes]] | None = None, **fields: str) -> Any:  # fmt: skip
        def backend(ask: Ask, sent: bytes) -> Any:
            lines = [line.split(b": ", 1) for line in ask.head.split(b"\r\n")[1:] if line]
            self.asked.append((dict(lines), sent))
            head = [(b"content-type", gives.encode()), (b"content-length", b"%d" % len(answer)), *(more or [])]
            return Answered(status, head if answer else head[2:], answer), ()

        headers = [(name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()]
        headers += [(b"content-type", media.encode())] if body else []
        call = self.bed.call(method, b"/sailings/v2/sailings", headers=headers)
        sends(call, body)
        return carry(call, backend=backend)


def becomes(policy: dict[str, Any], body: bytes, media: str = JSON) -> tuple[bytes, bytes]:
    """What a request's body becomes, and its media type."""
    passing = Passing({"kind": "request-body"} | policy)
    outcome = passing.send(body, media)
    assert not isinstance(outcome, Refusal), outcome
    fields, sent = passing.asked[0]
    assert fields[b"content-length"] == b"%d" % len(sent)
    return sent, fields[b"content-type"]


def edit(*lines: str) -> dict[str, Any]:
    return {"do": "edit JSON", "edits": list(lines)}


@pytest.mark.parametrize(
    ("lines", "before", "after"),
    [
        (['set /a: {"b": 1}'], {"a": 0, "c": 2}, {"a": {"b": 1}, "c": 2}),
        (["set /new/deep: true"], {}, {"new": {"deep": True}}),
        (['set /list/-: "end"', "set /list/0: 9"], {"list": [1, 2]}, {"list": [9, 2, "end"]}),
        (["set /all/*: null"], {"all": {"a": 1, "b": 2}}, {"all": {"a": None, "b": None}}),
        (["set /crew/*/paid: false"], {"crew": [{"n": 1}, {"n": 2}]}, {"crew": [{"n": 1, "paid": False}, {"n": 2, "paid": False}]}),
        (["set /a~1b: 1"], {"a/b": 0}, {"a/b": 1}),
        (['set /who: "{{ call.method }} {{ body.a }}"'], {"a": 'x"y'}, {"a": 'x"y', "who": 'POST x"y'}),
        (["remove /a", "remove /b/0", "remove /none/x"], {"a": 1, "b": [1, 2]}, {"b": [2]}),
        (["remove /crew/*/phone"], {"crew": [{"phone": 1, "n": 2}, {"n": 3}]}, {"crew": [{"n": 2}, {"n": 3}]}),
        (["rename /from to origin"], {"from": 1, "to": 2}, {"origin": 1, "to": 2}),
        (["rename /a to b"], {"b": 1, "a": 2}, {"b": 2}),
        (["keep /id, /crew/*/n"], {"id": 1, "x": 2, "crew": [{"n": 1, "m": 2}]}, {"id": 1, "crew": [{"n": 1}]}),
        (["keep /a, /a/b"], {"a": {"b": 1, "c": 2}, "d": 3}, {"a": {"b": 1, "c": 2}}),
        (["set /x/y: 1"], [1, 2], [1, 2]),
    ],
)  # fmt: skip
def test_json_is_edited_in_the_order_of_the_lines(lines: list[str], before: Any, after: Any) -> None:
    body, media = becomes(edit(*lines), json.dumps(before).encode())
    assert json.loads(body) == after
    assert list(json.loads(body)) == list(after)
    assert media == JSON.encode()


def test_numbers_of_any_length_stay_as_they_are() -> None:
    body, _ = becomes(edit("remove /b"), b'{"a": 123456789012345678901234567890, "b": 1, "c": 0.1}')
    assert body == b'{"a":123456789012345678901234567890,"c":0.1}'
    assert json_bodies.load(b"12345678901234567890123") == 12345678901234567890123


@given(st.recursive(st.one_of(st.none(), st.booleans(), st.integers(), st.text(max_size=5)),
                    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text("ab/~*-01", max_size=3), inner, max_size=4),
                    max_leaves=15),
       st.lists(st.sampled_from(["set /a/b: 1", "remove /*/a", "rename /a to b", "keep /a, /*/b", "set /-: 2", "remove /0/*",
                                 "set /*/*: 3", "keep /*"]), min_size=1, max_size=4))  # fmt: skip
def test_edits_of_any_document_end_and_give_json(document: Any, lines: list[str]) -> None:
    change = compiled([parse(line) for line in lines])
    again = json.loads(json.dumps(change(json.loads(json.dumps(document)), None)))  # type: ignore[arg-type]
    assert change(again, None) is not NotImplemented  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("put /a: 1", "is not an edit of JSON"),
        ("set a: 1", "is not an edit of JSON"),
        ("set /a: nothing", "is not JSON: 'nothing'; texts stand in"),
        ("set /a: {{ secret }}", "is not known of a call"),
        ("rename /a to b/c", "is not one name"),
        ("remove /a, b", "is not a JSON Pointer"),
        ("remove /a~2", "is not a JSON Pointer"),
        ("set /a: " + "1" * 4001, "at most 4,000 fit"),
    ],
)
def test_an_edit_of_json_that_cannot_be_is_refused_in_words(line: str, words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        RequestBody.model_validate(edit(line))


@pytest.mark.parametrize(
    ("value", "form", "xml"),
    [
        ({"ship": {"@id": 7, "name": "Lark", "crew": ["a", "b"], "#text": "x"}}, PLAIN,
         '<ship id="7">x<name>Lark</name><crew>a</crew><crew>b</crew></ship>'),
        ([1, True, None], XmlForm("berths", "berth"), "<berths><berth>1</berth><berth>true</berth><berth/></berths>"),
        ({"a": 1, "b": "<&>"}, PLAIN, "<document><a>1</a><b>&lt;&amp;&gt;</b></document>"),
        ({"a": [[1, 2], [3]]}, XmlForm("d"), "<d><a><item>1</item><item>2</item></a><a><item>3</item></a></d>"),
        ("text", PLAIN, "<document>text</document>"),
        ({"only": []}, PLAIN, "<document/>"),
    ],
)  # fmt: skip
def test_json_is_written_as_xml(value: Any, form: XmlForm, xml: str) -> None:
    assert to_xml(value, form).decode() == f"<?xml version='1.0' encoding='UTF-8'?>\n{xml}"


@pytest.mark.parametrize(
    ("xml", "form", "value"),
    [
        ('<s id="7">x<n>Lark</n><c>a</c><c>b</c>y</s>', PLAIN, {"s": {"@id": "7", "n": "Lark", "c": ["a", "b"], "#text": "xy"}}),
        ("<s><c>1</c><d>true</d><e>01</e><f>1.50</f></s>", XmlForm(read_values=True, lists=frozenset({"c"})),
         {"s": {"c": [1], "d": True, "e": "01", "f": 1.5}}),
        ('<a:s xmlns:a="urn:x"><a:c a:k="1"/></a:s>', PLAIN, {"s": {"c": {"@k": "1"}}}),
        ('<a:s xmlns:a="urn:x"><a:c/></a:s>', XmlForm(keep_prefixes=True), {"a:s": {"a:c": None}}),
        ("<s> <c/> <!-- no --><?pi no?> </s>", PLAIN, {"s": {"c": None}}),
        ("<s><![CDATA[<b>]]></s>", PLAIN, {"s": "<b>"}),
        ('<?xml version="1.0" encoding="ISO-8859-1"?><s>\xe6</s>', PLAIN, {"s": "æ"}),
    ],
)  # fmt: skip
def test_xml_is_read_as_json(xml: str, form: XmlForm, value: Any) -> None:
    body = xml.encode("latin-1" if "ISO" in xml else "utf-8")
    assert from_xml(body, form) == value


@given(st.dictionaries(NAMES, TREES, min_size=1, max_size=3))
def test_what_xml_can_tell_comes_back_as_it_was(value: Any) -> None:
    whole = {"document": value}
    assert from_xml(to_xml(whole, PLAIN), PLAIN) == whole


BOMB = "<!DOCTYPE s [<!ENTITY a 'aaaaaaaaaa'>" + "".join(
    f"<!ENTITY {chr(98 + n)} '{f'&{chr(97 + n)};' * 10}'>" for n in range(9)) + "]><s>&j;</s>"  # fmt: skip


@pytest.mark.parametrize(
    ("xml", "words"),
    [
        (BOMB, "document type declaration"),
        ("<!DOCTYPE s SYSTEM 'file:///etc/passwd'><s/>", "document type declaration"),
        ("<!DOCTYPE s [<!ENTITY x SYSTEM 'file:///etc/passwd'>]><s>&x;</s>", "document type declaration"),
        (
            "<!DOCTYPE s [<!ENTITY % p SYSTEM 'http://192.0.2.1/x.dtd'> %p;]><s/>",
            "document type declaration|not well-formed",
        ),
        ("<s>&x;</s>", "not well-formed"),
        ("<s>" * 300 + "</s>" * 300, "deeper than|not well-formed"),
        ("<s", "not well-formed"),
        ("", "not well-formed"),
        ("{}", "not well-formed"),
    ],
)
def test_xml_that_attacks_or_is_none_is_refused(xml: str, words: str) -> None:
    for body in (xml.encode(), xml.encode("utf-16")):
        with pytest.raises(NotConverted, match=words):
            from_xml(body, PLAIN)


@pytest.mark.parametrize(
    ("value", "words"),
    [
        ({"a b": 1}, "cannot be the name of an element"),
        ({"1a": 1, "b": 2}, "cannot be the name of an element"),
        ({"d": {"@a b": 1}}, "cannot be the name of an attribute"),
        ({"d": {"@a": [1]}}, "is no text, number or truth value"),
        ({"d": {"#text": {}}}, "is no text, number or truth value"),
        ({"d": "\x00"}, "cannot hold"),
        ({"d": "\ufffe"}, "cannot hold"),
        (json.loads("[" * 200 + "]" * 200), "deeper than 100 levels"),
    ],
)
def test_json_that_xml_cannot_hold_is_refused(value: Any, words: str) -> None:
    with pytest.raises(NotConverted, match=words):
        to_xml(value, PLAIN)


def test_forms_become_json_and_back() -> None:
    body, media = becomes({"do": "form to JSON", "read_values": True}, b"a=1&a=x&b=%C3%A6&c=&d=true", FORM)
    assert (json.loads(body), media) == ({"a": [1, "x"], "b": "æ", "c": "", "d": True}, JSON.encode())
    body, media = becomes({"do": "JSON to form"}, '{"a": [1, "x y"], "b": "æ", "c": null, "d": true}'.encode())
    assert (body, media) == (b"a=1&a=x+y&b=%C3%A6&c=&d=true", FORM.encode())


def test_values_of_several_edits_come_from_wherever_each_says() -> None:
    made = edit(
        'set /a: "{{ call.method }}"', 'set /b: "{{ body.from }}"', 'set /c: "{{ call.method }} {{ body.from }}"'
    )
    body, _ = becomes(made, b'{"from": "x"}')
    assert json.loads(body) == {"from": "x", "a": "POST", "b": "x", "c": "POST x"}


def test_a_text_takes_values_of_the_body_and_they_stay_values() -> None:
    policy = {"do": "from a text", "text": '{"line": "{{ body.from }}", "by": "{{ call.method }}"}'}
    body, media = becomes(policy, b'{"from": "a\\", \\"x\\": \\"b"}')
    assert (json.loads(body), media) == ({"line": 'a", "x": "b', "by": "POST"}, JSON.encode())
    body, media = becomes({"do": "from a text", "text": "<a>{{ body.b }}</a>", "media": XML}, b'{"b": "<c>"}')
    assert (body, media) == (b"<a>&lt;c&gt;</a>", XML.encode())


@pytest.mark.parametrize(
    ("policy", "body", "media", "reason", "words"),
    [
        (edit("remove /a"), b"{", JSON, "bad-body", "unexpected end of data|EOF|trailing|expected"),
        (edit("remove /a"), b'{"a": 1e999}', JSON, "bad-body", "infinity"),
        (edit("remove /a"), b"[" * 2000, JSON, "bad-body", "."),
        ({"do": "XML to JSON"}, BOMB.encode(), XML, "bad-body", "document type declaration"),
        ({"do": "JSON to XML"}, b'{"a b": 1}', JSON, "bad-body", "cannot be the name of an element"),
        ({"do": "form to JSON"}, b"a=%C3", FORM, "bad-body", "not a form|."),
        ({"do": "JSON to form"}, b"[1]", JSON, "bad-body", "only an object becomes a form"),
        ({"do": "JSON to form"}, b'{"a": {"b": 1}}', JSON, "bad-body", "which a form cannot"),
        (edit("remove /a") | {"at_most": 10}, b'{"aaaaaaaaaaaa": 1}', JSON, "too-large", "may have at most 10 B"),
    ],
)
def test_a_body_that_cannot_be_changed_is_refused_or_passes_as_the_policy_says(
    policy: dict[str, Any], body: bytes, media: str, reason: str, words: str
) -> None:
    refusal = Passing({"kind": "request-body"} | policy).send(body, media)
    if not (reason == "bad-body" and words.endswith("|.")):
        assert isinstance(refusal, Refusal)
        assert refusal.reason.code == reason
    passing = Passing({"kind": "request-body", "otherwise": "pass it on as it is"} | policy)
    assert not isinstance(passing.send(body, media), Refusal)
    if reason != "bad-body" or not words.endswith("|."):
        assert passing.asked[0][1] == body


@given(
    st.binary(max_size=200),
    st.sampled_from(["edit JSON", "JSON to XML", "XML to JSON", "form to JSON", "JSON to form"]),
)
def test_whatever_comes_is_changed_or_refused(body: bytes, do: str) -> None:
    media = {"XML to JSON": XML, "form to JSON": FORM}.get(do, JSON)
    outcome = _FUZZED[do].send(body, media)
    assert not isinstance(outcome, Refusal) or outcome.reason.code == "bad-body"


_FUZZED = {do: Passing({"kind": "request-body", "do": do, "edits": ["remove /a"] if do == "edit JSON" else []})
           for do in ("edit JSON", "JSON to XML", "XML to JSON", "form to JSON", "JSON to form")}  # fmt: skip


def test_other_bodies_and_none_pass_untouched() -> None:
    passing = Passing({"kind": "request-body"} | edit("remove /a"))
    passing.send(b"a,b", "text/csv")
    passing.send(b"", method="GET")
    passing.send(b'{"a": 1}', "application/vnd.skerry+json; charset=utf-8")
    assert [sent for _, sent in passing.asked] == [b"a,b", b"", b"{}"]
    assert passing.send(b"\x1f\x8b", content_encoding="gzip").reason.code == "bad-body"


def test_an_answer_comes_as_xml_and_the_backend_is_asked_for_json_whole_and_plain() -> None:
    passing = Passing({"kind": "answer-body", "do": "JSON to XML", "root": "sailings", "item": "sailing",
                       "when": ["header accept matches xml"]})  # fmt: skip
    fields = [(b"etag", b'"v1"'), (b"content-digest", b"sha-256=:x:")]
    answer = passing.send(
        method="GET", answer=b'[{"id": "G-1"}]', more=fields, accept=XML, accept_encoding="gzip", range="bytes=0-1"
    )
    assert (
        answer.body == b"<?xml version='1.0' encoding='UTF-8'?>\n<sailings><sailing><id>G-1</id></sailing></sailings>"
    )
    assert answer.fields == b'etag: W/"v1"\r\nvary: accept\r\ncontent-type: application/xml\r\n'
    assert not answer.has_length
    asked, _ = passing.asked[0]
    assert asked[b"accept"] == JSON.encode()
    assert {b"accept-encoding", b"range"} & set(asked) == set()
    same = passing.send(method="GET", answer=b"[]", accept=JSON)
    assert (same.body, passing.asked[1][0][b"accept"]) == (b"[]", JSON.encode())
    assert b"vary: accept\r\n" in same.fields


@pytest.mark.parametrize(
    ("answer", "gives", "status", "more", "passes"),
    [
        (b"not json", JSON, 200, [], False),
        (b"{}", JSON, 200, [(b"content-encoding", b"br")], False),
        (b'{"a": "' + b"x" * 200 + b'"}', JSON, 200, [], False),
        (b"<p>late</p>", "text/html", 200, [], True),
        (b'{"a": 1', JSON, 206, [], True),
        (b"", JSON, 204, [], True),
    ],
)
def test_an_answer_that_cannot_be_changed_is_refused_or_passes(
    answer: bytes, gives: str, status: int, more: list[tuple[bytes, bytes]], passes: bool
) -> None:
    policy = {"kind": "answer-body", "at_most": 100} | edit("remove /a")
    outcome = Passing(policy).send(method="GET", answer=answer, gives=gives, status=status, more=more)
    if passes:
        assert outcome.body == answer
    else:
        assert isinstance(outcome, Refusal)
        assert outcome.reason.code == "answer-unreadable"
    left = Passing(policy | {"otherwise": "pass it on as it is"}).send(
        method="GET", answer=answer, gives=gives, status=status, more=more
    )
    assert left.body == answer


def test_a_head_tells_the_type_and_no_length_of_another_body() -> None:
    passing = Passing({"kind": "answer-body", "do": "JSON to XML"})
    answer = passing.send(method="HEAD", answer=b"{}")
    assert answer.fields == b"content-type: application/xml\r\n"


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({"do": "edit JSON"}, "write at least one change"),
        ({"do": "from a text"}, "write the text"),
        ({"do": "JSON to XML", "root": "a b"}, "cannot be an element's name"),
        ({"do": "XML to JSON", "at_most": "6 MB"}, "bodies of at most 5 MB"),
        ({"do": "XML to JSON", "at_most": 0}, "bodies of at most 5 MB"),
    ],
)
def test_a_change_that_cannot_be_is_refused_in_words(wrong: dict[str, Any], words: str) -> None:
    for model in (RequestBody, AnswerBody):
        with pytest.raises(ValidationError, match=words):
            model.model_validate(wrong)


def test_what_is_written_is_json_that_others_read() -> None:
    assert orjson.loads(becomes(edit('set /a: "æ\\u0000"'), b"{}")[0]) == {"a": "æ\x00"}


def test_a_trace_shows_bodies_before_and_after_without_what_looks_secret() -> None:
    passing = Passing({"kind": "request-body"} | edit("remove /gone"), {"kind": "answer-body", "do": "JSON to XML"},
                      {"kind": "rewrite", "path": "/old"})  # fmt: skip
    body = b'{"gone": 1, "api_key": "tmk_secret", "kept": "' + b"x" * 3000 + b'"}'
    call = passing.bed.call("POST", b"/sailings/v2/sailings", headers=[(b"content-type", JSON.encode())])
    sends(call, body)
    call.media = JSON.encode()
    call.trace = trace = Trace(lambda: 0)
    answer = Answered(200, [(b"content-type", JSON.encode())], b'{"token": "tms_secret", "a": 1}')
    carry(call, backend=lambda ask, sent: (answer, ()))
    told = {entry.title: dict(entry.changes) for entry in trace.entries}
    assert told["Request body"]["body before"].startswith('{"gone": 1, "api_key": "••••", "kept": "xxx')
    assert told["Request body"]["body after"].startswith('{"api_key":"••••","kept":"xxx')
    assert len(told["Request body"]["body before"]) < 2_010
    assert told["Answer body"]["body after"].endswith("<document><token>••••</token><a>1</a></document>")
    assert told["Rewrite"] == {"asks the backend for": "POST /old"}
    assert "secret" not in repr(trace.entries)
