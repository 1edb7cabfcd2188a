"""Active checks on real sockets: a target that fails them is passed over until it is well again."""

import asyncio
from typing import Any

from gateway.harness import Backend, running
from helpers import configuration, until
from tamarack.core.http.reach import Reach, openings
from tamarack.gateway.health import HealthChecks
from tamarack.gateway.upstream.pool import PooledUpstream

GOOD, BAD = (b"HTTP/1.1 %b\r\ncontent-length: 0\r\n\r\n" % status for status in (b"200 OK", b"500 No"))
PATH = "/sailings/v2/sailings"


def checked(*backends: Backend, **rules: Any) -> Any:
    targets = [{"address": f"http://127.0.0.1:{one.port}/base"} for one in backends]
    health = {"path": "/health", "every_s": 1, "within_ms": 300, "unwell_after": 1, "well_after": 1} | rules
    return configuration(backends=[{"name": "timetable", "targets": targets, "health": health}])


def test_a_target_that_fails_its_checks_is_passed_over_and_comes_back() -> None:
    well, ill = Backend([]), Backend([BAD, GOOD])
    upstream = PooledUpstream(Reach(opened=openings("127.0.0.0/8")))
    try:
        with running(checked(well, ill), upstream) as node:
            checks = HealthChecks(node.gateway)

            def look(now: float) -> None:
                asyncio.run_coroutine_threadsafe(_called(checks, now), node.loop).result(5)

            states = lambda: {one.label.rpartition(":")[2]: one.state for one in node.gateway.states.all()}  # noqa: E731
            look(1000.0)
            until(lambda: states()[str(ill.port)] == "unwell", "the check to fail")
            assert b"GET /base/health HTTP/1.1\r\n" in ill.received[0]
            before = len(ill.received)
            assert [node.get(PATH).status for _ in range(4)] == [200] * 4
            assert len(ill.received) == before
            look(1000.5)  # not due yet
            look(1001.5)
            until(lambda: states()[str(ill.port)] == "well", "the check to be good")
            events = [(one.target.rpartition(":")[2], one.state, one.why) for one in node.gateway.states.events]
            assert events == [
                (str(ill.port), "unwell", "1 checks in a row failed, the last: it answered 500"),
                (str(ill.port), "well", "1 checks in a row were good"),
            ]
    finally:
        well.close()
        ill.close()


def test_a_breaker_whose_time_is_up_is_half_open_also_while_no_call_comes() -> None:
    made = configuration(
        backends=[{"name": "timetable", "targets": [{"address": "http://127.0.0.1:9"}], "breaker": {"open_s": 5}}]
    )
    with running(made, PooledUpstream(Reach(opened=openings("127.0.0.0/8")))) as node:
        (state,) = node.gateway.states.all()
        state.noted(1000.0, 503, "", False, 7.0)
        checks = HealthChecks(node.gateway)
        seen = []
        for now in (1000.0, 1006.9, 1007.0):
            asyncio.run_coroutine_threadsafe(_called(checks, now), node.loop).result(5)
            seen.append(state.state)
        assert seen == ["open", "open", "half-open"]
        assert [one.state for one in node.gateway.states.events] == ["open", "half-open"]


async def _called(checks: HealthChecks, now: float) -> None:
    checks.look(now)
