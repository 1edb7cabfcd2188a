"""Metering on real sockets: calls that wait for their turn, caps, quotas, costs by the answer, and the fields."""

import json
import subprocess
import time
from typing import Any

import pytest

from gateway.harness import BENCH_KEY, Node, Reply, running
from gateway.test_carry import answering
from gateway.test_protect import asked, ticket
from helpers import configuration, free_port, fresh_redis, until
from tamarack.core.trying.node_request import NodeRequest, write_request
from tamarack.gateway.upstream.scripted import ScriptedAnswer, ScriptedUpstream

KEY = {"kind": "api-key", "header": "x-skerry-key"}
PATH = "/sailings/v2/sailings"
SENT = f"GET {PATH} HTTP/1.1\r\nHost: g\r\nx-skerry-key: tmk_good\r\n\r\n".encode()


def metered(*policies: dict[str, Any], plan: dict[str, Any] | None = None, **changes: Any) -> Any:
    plans = [{"name": "skiff", "title": "Skiff", **(plan or {})}]
    products = [{"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": plans}]
    return configuration(version={"policies": [KEY, *policies]}, products=products, **changes)


def held(hold_ms: int, queue: int, *windows: str) -> dict[str, Any]:
    return {"kind": "rate-limit", "name": "smooth", "windows": list(windows), "hold_ms": hold_ms, "queue": queue}


@pytest.fixture(params=["memory", "redis"])
def store(request: pytest.FixtureRequest) -> dict[str, str]:
    """How a node counts."""
    if request.param == "memory":
        return {}
    return {"redis": fresh_redis(request.getfixturevalue("redis_port"), 3)}


def serve(made: Any, store: dict[str, str] | None = None, script: Any = answering) -> Any:
    return running(made, ScriptedUpstream(script), **(store or {}))


def at_once(node: Node, many: int) -> list[Reply]:
    """Calls that all come at once, in their order."""
    callers = [node.caller() for _ in range(many)]
    opened = [caller.__enter__() for caller in callers]
    for caller in opened:
        caller.send(SENT)
    replies = [caller.receive() for caller in opened]
    for caller in callers:
        caller.__exit__(None, None, None)
    return replies


def test_calls_beyond_a_rate_wait_their_turn_and_more_than_the_line_holds_are_refused(store: dict[str, str]) -> None:
    with serve(metered(held(5000, 3, "5 per second, burst 1")), store) as node:
        replies = at_once(node, 6)
        assert sorted(reply.status for reply in replies) == [200, 200, 200, 200, 429, 429]
        records = [node.last_record(reply["tamarack-call-id"]) for reply in replies]
        passed = [record for record in records if record.status == 200]
        assert min(record.held_us for record in passed) == 0
        began, ends = min(record.at for record in passed), sorted(record.at + record.total_us for record in passed)
        assert all(end - began >= place * 190_000 for place, end in enumerate(ends))  # a fifth of a second each
        assert all(record.total_us >= record.held_us for record in records)
        until(lambda: not node.gateway.metering.held(), "the end of the line")


def test_whoever_waits_too_long_is_refused_and_told_when_to_come(store: dict[str, str]) -> None:
    with serve(metered(held(100, 5, "1 per day, burst 1")), store) as node:
        assert node.get(PATH).status == 200
        refused = node.get(PATH)
        assert (refused.status, refused.problem["reason"]) == (429, "over-rate")
        assert int(refused["retry-after"]) > 86_000
        assert node.last_record(refused["tamarack-call-id"]).held_us == 0  # it was plain that its turn would not come


def test_a_caller_that_goes_away_frees_its_place() -> None:
    with serve(metered(held(20_000, 1, "1 per 10 seconds, burst 1"))) as node:
        assert node.get(PATH).status == 200
        with node.caller() as waiting:
            waiting.send(SENT)
            place = ("sailings/2/smooth", "a")
            until(lambda: node.gateway.metering.held() == {place: 1}, "a call in line")
            assert node.get(PATH).status == 429  # the line is full
        until(lambda: node.gateway.metering.held() == {}, "the place to be free")
        gone = until(lambda: next((one for one in node.records if one.status == 499), None), "its record")
        assert gone.held_us > 0


def test_the_trace_tells_how_long_a_call_was_held() -> None:
    with serve(
        metered(held(5000, 3, "1 per second, burst 1"))
    ) as node:  # a busy machine takes a while between two calls
        asked(node, ticket(application="a", nonce="h0"))
        asked(node, ticket(application="a", nonce="h1"))
        trace = until(lambda: node.traces[1:], "the trace")[0]
        (entry,) = [one for one in trace["entries"] if one["title"] == "Held"]
        assert entry["verdict"] == "passed"
        assert "until its turn came under ‘smooth’" in entry["text"]


def test_the_platforms_cap_binds_all_callers_and_open_operations_and_is_nobodys_fault() -> None:
    made = metered(
        {"kind": "rate-limit", "name": "platform", "windows": ["900 per day"]},
        caps=[{"environment": "production", "limits": ["3 per day"]}, {"environment": "test", "limits": ["1 per day"]}],
    )
    with serve(made) as node:
        replies = [node.get(path) for path in (PATH, "/sailings/v2/ports", PATH, "/sailings/v2/ports", PATH)]
        assert [reply.status for reply in replies] == [200, 200, 200, 503, 503]
        assert replies[3].problem["reason"] == "over-capacity"
        assert int(replies[3]["retry-after"]) >= 1
        assert replies[0]["ratelimit"].startswith('"platform";r=2;')


def test_a_plans_quota_and_its_own_rates_for_an_api_bind_the_subscription(store: dict[str, str]) -> None:
    plan = {"limits": ["1 per day"], "parts": ["sailings: 9 per day", "sailings post /sailings: 1 per hour"],
            "quota_calls": 4, "quota_period": "month"}  # fmt: skip
    with serve(metered(plan=plan), store) as node:
        assert [node.get(PATH, "Content-Length: 0", method="POST").status for _ in range(2)] == [200, 429]
        assert [node.get(PATH).status for _ in range(4)] == [200, 200, 200, 429]
        refused = node.get(PATH)
        assert refused.problem["reason"] == "over-quota"
        assert refused["ratelimit-policy"].startswith('"skiff";q=4;w=')
        rows = node.used.take()
        assert [(row[1], row[2], row[5], row[6]) for row in rows] == [("@quota/passage", "s", 4, 4)]


def test_calls_beyond_a_soft_quota_are_carried_and_marked() -> None:
    soft = {"kind": "quota", "calls": 1, "when_used_up": "let through"}
    with serve(metered(soft)) as node:
        marks = []
        for _ in range(3):
            reply = node.get(PATH)
            assert reply.status == 200
            marks.append(node.last_record(reply["tamarack-call-id"]).mark)
        assert marks == ["", "over-quota", "over-quota"]


def test_what_an_answer_says_it_cost_counts_afterwards(store: dict[str, str]) -> None:
    def costly(request: Any) -> Any:
        return ScriptedAnswer(200, [(b"x-units", b"4")], (json.dumps({"usage": {"units": 3}}).encode(),))

    limit = {"kind": "rate-limit", "name": "units", "windows": ["10 per day"]}
    for cost, left in (({"answer_header": "X-Units"}, 6), ({"answer_value": "/usage/units"}, 7)):
        made = metered(limit | {"name": f"units-{left}"}, {"kind": "cost", **cost})
        with serve(made, store, costly) as node:
            assert node.get(PATH)["ratelimit"].startswith(f'"units-{left}";r=9;')
            until(lambda n=node, m=left: _used(n, f"units-{m}") == 10 - m, "the cost to be counted")


def _used(node: Node, name: str) -> int:
    rows = _console(node, search=name)["counters"]
    return next((int(row[3]) for row in rows), 0)


def _console(node: Node, seal: bytes = BENCH_KEY, **said: Any) -> Any:
    sealed = write_request(NodeRequest("production", time.time(), **said), seal)
    reply = node.get("/.tamarack/counters", f"Tamarack-Node-Request: {sealed}", key="")
    return json.loads(reply.body) if reply.status == 200 else reply.status


def test_the_console_lists_and_clears_live_counters_and_nobody_else_does(store: dict[str, str]) -> None:
    with serve(metered({"kind": "rate-limit", "name": "live", "windows": ["2 per day"]}), store) as node:
        assert [node.get(PATH).status for _ in range(3)] == [200, 200, 429]
        answer = _console(node, search="live")
        assert answer["counting"] == ("with all nodes" if store else "by itself")
        assert [row[:5] for row in answer["counters"]] == [["sailings/2/live", "2 per day", "a", 2, 2]]
        assert _console(node, seal=bytes(31) + b"x") == 404
        assert node.get("/.tamarack/counters", key="").status == 404
        assert _console(node, do="clear", id="sailings/2/live", key="a")["problem"] == ""
        assert node.get(PATH).status == 200


@pytest.mark.parametrize(("send", "names"), [
    ("RateLimit", {"ratelimit", "ratelimit-policy"}), ("none", set()),
    ("RateLimit and the older X-RateLimit trio",
     {"ratelimit", "ratelimit-policy", "x-ratelimit-limit", "x-ratelimit-remaining", "x-ratelimit-reset"}),
])  # fmt: skip
def test_answers_carry_the_fields_that_were_chosen(send: str, names: set[str]) -> None:
    limit = {"kind": "rate-limit", "name": "steady", "windows": ["2 per day"]}
    with serve(metered(limit, {"kind": "limit-fields", "send": send})) as node:
        replies = [node.get(PATH) for _ in range(3)]
        for reply, left in zip(replies, (1, 0, 0), strict=True):
            assert {name for name, _ in reply.fields if "ratelimit" in name} == names
            if "x-ratelimit-limit" in names:
                assert (reply["x-ratelimit-limit"], reply["x-ratelimit-remaining"]) == ("2", str(left))
                assert reply["x-ratelimit-reset"] == reply["ratelimit"].split(";t=")[1]
        assert replies[2].status == 429
        assert "retry-after" in replies[2]


def test_a_quota_counted_on_the_node_is_added_to_the_shared_count_when_that_is_back() -> None:
    port = free_port()
    command = ["redis-server", "--port", str(port), "--bind", "127.0.0.1", "--save", ""]
    with serve(metered(plan={"quota_calls": 5}), {"redis": f"redis://127.0.0.1:{port}", "store_within_s": 0.2}) as node:
        assert [node.get(PATH).status for _ in range(2)] == [200, 200]
        server = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            shared = node.gateway.metering.shared
            assert shared is not None
            until(lambda: not shared.away_since and not shared._owed, "the return of the shared counters")
            assert [node.get(PATH).status for _ in range(4)] == [200, 200, 200, 429]
        finally:
            server.terminate()
            server.wait(10)


def test_two_kinds_of_wait_do_not_hold_up_other_callers() -> None:
    with serve(metered(held(20_000, 2, "1 per 10 seconds, burst 1"))) as node:
        assert node.get(PATH).status == 200
        with node.caller() as waiting:
            waiting.send(SENT)
            until(lambda: node.gateway.metering.held(), "a call in line")
            node.directory.apply("subscription", "t", {"application": "b", "product": "passage", "plan": "skiff",
                                                       "state": "active"})  # fmt: skip
            assert node.get(PATH, key="tmk_unsubscribed").status == 200
            assert node.gateway.metering.held()
