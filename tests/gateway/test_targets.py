"""Several targets on a real socket: whose turn it is, breakers, retries and time limits."""

from typing import Any

import pytest

from gateway.harness import KEY, Backend, Node, running
from helpers import configuration
from tamarack.core.carrying.needs import Failed
from tamarack.core.http.reach import Reach, openings
from tamarack.gateway.upstream.pool import PooledUpstream
from tamarack.gateway.upstream.scripted import Asked, ScriptedAnswer, ScriptedUpstream

PATH = "/sailings/v2/sailings"
KEY_POLICY = {"kind": "api-key", "header": "X-Skerry-Key"}
RETRIES = {"kind": "retries"}
QUICK = {"in_a_row": 2, "share": 0, "open_s": 60, "trial_calls": 1}


class Targets:
    """A node over some targets, `http://127.0.0.1:1` and so on, each with an answer that can be changed."""

    def __init__(self, *targets: dict[str, Any], policies: tuple[dict[str, Any], ...] = (), **backend: Any) -> None:
        self.answers: dict[str, ScriptedAnswer | Failed] = {}
        self.upstream = ScriptedUpstream(self._answer)
        placed = [{"address": f"http://127.0.0.1:{place + 1}", **one} for place, one in enumerate(targets)]
        operations = [{"call": "get /sailings"}, {"call": "post /sailings"}]
        self.made = configuration(
            backends=[{"name": "timetable", "targets": placed, **backend}],
            version={"policies": [KEY_POLICY, *policies], "operations": operations},
        )

    def _answer(self, asked: Asked) -> ScriptedAnswer | Failed:
        return self.answers.get(asked.target.label, ScriptedAnswer(200, [(b"content-length", b"2")], (b"ok",)))

    def fail(self, place: int, answer: ScriptedAnswer | Failed | None) -> None:
        label = f"127.0.0.1:{place}"
        if answer is None:
            self.answers.pop(label, None)
        else:
            self.answers[label] = answer

    @property
    def asked(self) -> str:
        """The last digits of the targets that were asked, in order."""
        return "".join(one.target.label[-1] for one in self.upstream.asked)

    def forget(self) -> None:
        self.upstream.asked.clear()


AWAY = Failed("away", "took no connection")


def post(node: Node, *fields: str, body: str = "x") -> Any:
    lines = ["POST /sailings/v2/sailings HTTP/1.1", "Host: gateway.example", f"X-Skerry-Key: {KEY}",
             f"Content-Length: {len(body)}", *fields]  # fmt: skip
    return node.ask(("\r\n".join(lines) + "\r\n\r\n" + body).encode())


def test_calls_are_shared_by_weight_and_as_evenly_as_can_be() -> None:
    targets = Targets({"weight": 3}, {"weight": 1})
    with running(targets.made, targets.upstream) as node:
        for _ in range(8):
            node.get(PATH)
        assert targets.asked == "11211121"


def test_the_lowest_priority_that_is_well_takes_the_calls_and_the_next_when_it_is_not() -> None:
    targets = Targets({"priority": 1}, {"priority": 2}, breaker=QUICK)
    with running(targets.made, targets.upstream) as node:
        assert [node.get(PATH).status for _ in range(2)] == [200, 200]
        targets.fail(1, AWAY)
        assert [node.get(PATH).status for _ in range(4)] == [502, 502, 200, 200]
        assert targets.asked == "111122"


def test_calls_of_one_caller_or_one_value_of_a_header_go_to_the_same_target() -> None:
    targets = Targets({}, {}, {}, same_for="the same value of a header", same_header="x-ship")
    with running(targets.made, targets.upstream) as node:
        for ship in ("a", "b", "c", "d", "e", "f"):
            targets.forget()
            for _ in range(3):
                node.get(PATH, f"X-Ship: {ship}")
            assert len(set(targets.asked)) == 1
        targets.forget()
        for _ in range(3):
            node.get(PATH)
        assert targets.asked == "123"  # without one, turns


def test_an_open_breaker_refuses_at_once_with_its_own_reason_and_how_long() -> None:
    targets = Targets({}, breaker=QUICK)
    targets.fail(1, ScriptedAnswer(503, [], (b"",)))
    with running(targets.made, targets.upstream) as node:
        assert [node.get(PATH).status for _ in range(2)] == [503, 503]
        reply = node.get(PATH)
        assert (reply.problem["reason"], targets.asked) == ("breaker-open", "11")
        assert 55 <= int(reply["retry-after"]) <= 60
        (event,) = node.gateway.states.events
        assert (event.backend, event.target, event.state) == ("timetable", "127.0.0.1:1", "open")
        assert event.why == "2 calls in a row failed, the last: it answered 503"
        node.serve(targets.made, 2)
        assert node.get(PATH).problem["reason"] == "breaker-open"  # a rollout leaves what is known


@pytest.mark.parametrize("status", [429, 503])
def test_a_target_that_asks_for_a_pause_gets_it_at_once(status: int) -> None:
    targets = Targets({"priority": 1}, {"priority": 2}, breaker=QUICK | {"in_a_row": 0})
    targets.fail(1, ScriptedAnswer(status, [(b"retry-after", b"30")], (b"",)))
    with running(targets.made, targets.upstream) as node:
        assert [node.get(PATH).status for _ in range(3)] == [status, 200, 200]
        assert targets.asked == "122"


def test_a_target_that_dies_costs_no_call_that_may_be_repeated() -> None:
    targets = Targets({}, {}, policies=(RETRIES,), breaker=QUICK)
    targets.fail(2, AWAY)
    with running(targets.made, targets.upstream) as node:
        replies = [node.get(PATH) for _ in range(8)]
        assert [reply.status for reply in replies] == [200] * 8
        assert targets.asked == "1212111111" or targets.asked.count("2") == 2
        targets.fail(2, None)
        record = node.last_record(replies[-1]["tamarack-call-id"])
        assert record.target == "127.0.0.1:1"


def test_only_what_may_be_repeated_is_and_only_as_often_as_the_policy_says() -> None:
    targets = Targets({}, {}, policies=(RETRIES | {"at_most": 3},))
    for place in (1, 2):
        targets.fail(place, ScriptedAnswer(503, [], (b"",)))
    with running(targets.made, targets.upstream) as node:
        assert (node.get(PATH).status, len(targets.asked)) == (503, 4)
        assert (post(node).status, len(targets.asked)) == (503, 5)
        assert (post(node, "Idempotency-Key: 7").status, len(targets.asked)) == (503, 9)
        targets.fail(1, None)
        assert post(node, "Idempotency-Key: 8", body="abc").status == 200
        assert targets.upstream.asked[-1].body == b"abc"


def test_retries_are_at_most_their_share_of_all_calls() -> None:
    targets = Targets({}, policies=(RETRIES | {"share": 10},))
    targets.fail(1, AWAY)
    with running(targets.made, targets.upstream) as node:
        for _ in range(40):
            node.get(PATH)
        assert len(targets.asked) == 40 + 10 + 4  # what is saved up at first, and a tenth of the calls


def test_a_body_that_was_streamed_is_never_sent_again() -> None:
    targets = Targets({}, {}, policies=(RETRIES | {"share": 100},))
    for place in (1, 2):
        targets.fail(place, ScriptedAnswer(503, [], (b"",)))
    with running(targets.made, targets.upstream) as node:
        assert post(node, "Idempotency-Key: 7", body="x" * 200_000).status == 503
        assert len(targets.asked) == 1


def test_time_limits_hold_by_backend_and_for_an_operation_in_their_place() -> None:
    backend = Backend([], pause_s=10)
    policy = {"kind": "time-limits", "first_ms": 60}
    made = configuration(
        backends=[{"name": "timetable", "targets": [{"address": f"http://127.0.0.1:{backend.port}"}]}],
        version={"policies": [KEY_POLICY, policy], "operations": [{"call": "get /sailings"}]},
    )
    target = {"name": "timetable", "targets": [{"address": f"http://127.0.0.1:{backend.port}"}]}
    operations = [{"call": "get /sailings"}]
    whole = configuration(
        backends=[target | {"whole_timeout_ms": 9_000}],
        version={"policies": [KEY_POLICY, {"kind": "time-limits", "whole_ms": 80}], "operations": operations},
    )
    own = configuration(
        backends=[target | {"first_timeout_ms": 70}], version={"policies": [KEY_POLICY], "operations": operations}
    )
    try:
        with running(made, PooledUpstream(Reach(opened=openings("127.0.0.0/8")))) as node:
            for configured, note in (
                (made, "sent nothing for 0.06 s"),
                (whole, "the whole call took longer than 0.08 s"),
                (own, "sent nothing for 0.07 s"),
            ):
                node.serve(configured, 2)
                reply = node.get(PATH)
                assert (reply.status, reply.problem["reason"]) == (504, "backend-slow")
                assert note in node.last_record(reply["tamarack-call-id"]).note
    finally:
        backend.close()
