"""A node on real sockets and the scripted driver run the same programs, so they decide alike: by property."""

import json
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from core.carried import Bed, carry
from gateway.harness import KEY, Node, running
from helpers import configuration
from tamarack.core.balancing.route import Route
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.needs import Ask, Failed
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.model import Configuration
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import target_at
from tamarack.gateway.upstream.scripted import Asked, ScriptedAnswer, ScriptedUpstream

TARGET = target_at("http://127.0.0.1:9", 1000, 1000)
ANSWERS: dict[str, ScriptedAnswer | Failed] = {
    "whole": ScriptedAnswer(200, [(b"content-type", b"text/plain"), (b"content-length", b"5")], (b"hello",)),
    "pieces": ScriptedAnswer(200, [(b"x-a", b"1")], (b"one ", b"", b"two")),
    "told": ScriptedAnswer(200, [(b"content-type", b"application/json")], (b'{"usage": {"prompt', b'_tokens": 3}}')),
    "events": ScriptedAnswer(200, [(b"content-type", b"text/event-stream")], (b'data: {"usage": {"prompt_to', b'kens": 4}}\n\n')),
    "none": ScriptedAnswer(204, [], (b"",)),
    "moved": ScriptedAnswer(302, [(b"location", b"/sailings/9")], (b"",)),
    "away": Failed("away", "no connection"),
    "broken": Failed("broken", "closed"),
}  # fmt: skip
OPERATIONS: dict[str, list[dict[str, Any]]] = {
    "open": [{"kind": "open"}],
    "keyed": [],
    "grouped": [{"kind": "groups", "allow": ["harbour"]}],
    "metered": [{"kind": "rate-limit", "name": "steady", "windows": ["3 per day"], "by": "header", "by_name": "x-run"}],
    "form": [{"kind": "client-secret", "name": "api-key", "id_form": "id", "secret_form": "secret"}],
    "small": [{"kind": "body-size", "at_most": "20 B"}],
    "counted": [{"kind": "token-count"}, {"kind": "cost", "answer_value": "/usage/prompt_tokens"},
                {"kind": "rate-limit", "name": "units", "windows": ["5 per day"], "by": "header", "by_name": "x-run"}],
}  # fmt: skip


def made() -> Configuration:
    calls = [{"call": f"{method} /{name}", "policies": policies}
             for name, policies in OPERATIONS.items() for method in ("get", "post")]  # fmt: skip
    return configuration(version={"operations": calls})


@pytest.fixture(scope="module")
def node() -> Iterator[tuple[Node, ScriptedUpstream]]:
    def script(asked: Asked) -> ScriptedAnswer | Failed:
        name = next(line for line in asked.head.split(b"\r\n") if line.startswith(b"x-answer: "))[10:].decode()
        return ANSWERS[name]

    upstream = ScriptedUpstream(script)
    with running(made(), upstream) as running_node:
        yield running_node, upstream


CALLS = st.lists(
    st.tuples(
        st.sampled_from(sorted(OPERATIONS)), st.sampled_from(["GET", "POST", "DELETE"]),
        st.sampled_from([KEY, "tmk_wrong", "tmk_unsubscribed", ""]), st.sampled_from(sorted(ANSWERS)),
        st.sampled_from([b"", b"short", b"id=a&secret=b&x=1", b"long " * 20]),
    ),
    min_size=1, max_size=5,
)  # fmt: skip
RUNS = iter(range(10**9))


def scripted(bed: Bed, fields: list[tuple[bytes, bytes]], method: str, path: bytes, body: bytes) -> tuple[Any, ...]:
    """What the scripted driver makes of a call."""
    found = bed.router.find(method, path)
    if isinstance(found, frozenset):
        return 405, "wrong-method", "", b"", 0

    def backend(ask: Ask, sent: bytes) -> tuple[Answered, tuple[bytes, ...]] | Failed:
        name = next(value for key, value in fields if key == b"x-answer").decode()
        answer = ANSWERS[name]
        if isinstance(answer, Failed):
            return answer
        whole = answer.pieces[0] if len(answer.pieces) == 1 else None
        return Answered(answer.status, list(answer.headers), whole), () if whole is not None else answer.pieces

    call = bed.call(method, path, headers=fields, form=body or None)
    outcome = carry(call, backend=backend)
    sent = outcome.body or b"" if isinstance(outcome, Passed) else b""
    application = call.caller.application if call.caller is not None else ""
    reason = outcome.reason.code if isinstance(outcome, Refusal) else ""
    return call.status, reason, application, sent, call.prompt_tokens


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(calls=CALLS)
def test_the_node_and_the_scripted_driver_decide_alike(node: tuple[Node, ScriptedUpstream], calls: list[Any]) -> None:
    there, _ = node
    configured = made()
    there.serve(
        configured
    )  # what answers of another example told of models is forgotten, as the other driver never knew it
    bed = Bed(
        configured,
        there.directory,
        there.material,
        routes={"timetable": Route([TARGET])},
        clock=iter(range(10**9)).__next__,
    )
    run = str(next(RUNS))  # counts are kept apart by it
    for name, method, key, answer, body in calls:
        path = f"/sailings/v2/{name}"
        form = "application/x-www-form-urlencoded"
        fields = [
            ("x-answer", answer),
            ("x-run", run),
            *([("x-skerry-key", key)] if key else []),
            ("content-type", form),
        ]
        lines = "".join(f"{field}: {value}\r\n" for field, value in fields)
        length = f"content-length: {len(body)}\r\n" if body else ""
        reply = there.ask(f"{method} {path} HTTP/1.1\r\nhost: a\r\n{lines}{length}\r\n".encode() + body)
        record = there.last_record(reply["tamarack-call-id"])
        status, reason, application, sent, tokens = scripted(
            bed, [(a.encode(), b.encode()) for a, b in fields], method, path.encode(), body
        )
        assert (reply.status, record.reason, record.application) == (status, reason, application)
        assert record.prompt_tokens == tokens
        if sent:
            assert reply.body == sent
        if reply.status >= 400:
            assert json.loads(reply.body)["reason"] == reason
