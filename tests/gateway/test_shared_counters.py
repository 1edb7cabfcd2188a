"""Nodes that count together: exactly the limit over all of them, and what each limit does while Redis is away."""

import asyncio
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest

from gateway.harness import Node, running
from gateway.test_carry import answering
from gateway.test_protect import asked, ticket
from helpers import apart, configuration, free_port, until
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Limiter, StoreAway
from tamarack.core.limits.stretch import Stretch
from tamarack.gateway.counters.shared import SharedCounting
from tamarack.gateway.upstream.scripted import ScriptedUpstream

NOW = 1_700_000_000.0

KEY = {"kind": "api-key", "header": "x-skerry-key"}
PATH = "/sailings/v2/sailings"


def limited(*limits: dict[str, Any], plan: str = "1000 per second") -> Any:
    policies = [KEY, *({"kind": "rate-limit", **one} for one in limits)]
    plans = [{"name": "skiff", "title": "Skiff", "limits": [plan]}]
    products = [{"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": plans}]
    return configuration(version={"policies": policies}, products=products)


@contextmanager
def redis(port: int) -> Iterator[subprocess.Popen[bytes]]:
    """A Redis of the test's own, that it can stop."""
    command = ["redis-server", "--port", str(port), "--bind", "127.0.0.1", "--save", "", "--appendonly", "no"]
    server = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        yield server
    finally:
        server.terminate()
        server.wait(10)


def serve(made: Any, address: str, **changes: Any) -> Any:
    return running(made, ScriptedUpstream(answering), redis=address, **changes)


def test_two_nodes_under_load_let_exactly_the_limit_through(redis_port: int) -> None:
    made = limited({"name": "two-nodes", "windows": ["40 per day"]}, plan="60 per hour, sliding")
    address = f"redis://127.0.0.1:{redis_port}/1"
    with serve(made, address) as one, serve(made, address) as two:
        statuses: list[int] = []

        def load(node: Node) -> None:
            with node.caller() as caller:
                for _ in range(25):
                    caller.send(f"GET {PATH} HTTP/1.1\r\nHost: g\r\nx-skerry-key: tmk_good\r\n\r\n".encode())
                    statuses.append(caller.receive().status)

        threads = [threading.Thread(target=load, args=(node,)) for node in (one, two, one, two)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(60)
        assert (len(statuses), statuses.count(200), statuses.count(429)) == (100, 40, 60)
        refused = one.get(PATH)
        assert refused["ratelimit"].startswith('"two-nodes";r=0;t=')
        assert int(refused["retry-after"]) >= 1


def test_the_trace_tells_of_limits_that_are_counted_elsewhere(redis_port: int) -> None:
    with serve(limited({"name": "traced", "windows": ["1 per day"]}), f"redis://127.0.0.1:{redis_port}/2") as node:
        for number, verdict in enumerate(("passed", "refused")):
            asked(node, ticket(application="a", nonce=f"m{number}"))
            trace = until(lambda n=number: node.traces[n:], "the trace")[0]
            (entry,) = [one for one in trace["entries"] if one["policy"] == "traced"]
            assert (entry["verdict"], entry["stage"]) == (verdict, "meter")
            assert entry["us"] > 0


@pytest.mark.parametrize(
    ("when_away", "statuses"),
    [("count on the node", [200, 200, 429]), ("admit", [200, 200, 200]), ("refuse", [503, 503, 503])],
)
def test_each_limit_does_as_it_says_while_the_counters_are_away(when_away: str, statuses: list[int]) -> None:
    said: list[str] = []
    made = limited({"name": "steady", "windows": ["2 per day"], "when_away": when_away})
    with serve(made, f"redis://127.0.0.1:{free_port()}", said=said, store_within_s=0.05) as node:
        assert [node.get(PATH).status for _ in range(3)] == statuses
        if when_away == "refuse":
            assert node.get(PATH).problem["reason"] == "not-metered"
        assert len([line for line in said if "are away" in line]) == 1
        shared = node.gateway.metering.shared
        assert shared is not None
        assert (shared.switched, shared.without >= 3) == (1, True)


def test_redis_stopped_under_load_delays_no_call_for_long_and_counts_again_when_it_is_back() -> None:
    port = free_port()
    said: list[str] = []
    made = limited({"name": "steady", "windows": ["900000 per day"]}, plan="900001 per second")
    with redis(port) as first, serve(made, f"redis://127.0.0.1:{port}", said=said, store_within_s=0.05) as node:
        assert "r=899999;" in node.get(PATH)["ratelimit"]
        stop = threading.Event()
        statuses: list[int] = []

        def load() -> None:
            with node.caller() as caller:
                while not stop.is_set():
                    caller.send(f"GET {PATH} HTTP/1.1\r\nHost: g\r\nx-skerry-key: tmk_good\r\n\r\n".encode())
                    statuses.append(caller.receive().status)

        thread = threading.Thread(target=load)
        thread.start()
        until(lambda: len(statuses) > 20, "some calls")
        first.kill()
        first.wait(10)
        until(lambda: any("are away" in line for line in said), "the switch to the node's own counters")
        with redis(port):
            until(lambda: any("are back" in line for line in said), "the return of the shared counters")
            many = len(statuses)
            until(lambda: len(statuses) > many + 20, "calls after the return")
            stop.set()
            thread.join(20)
            assert set(statuses) == {200}
            shared = int(node.get(PATH)["ratelimit"].split("r=")[1].split(";")[0])
            assert 0 < 900_000 - shared < len(statuses)  # it counts anew, together again


def test_what_is_owed_to_the_shared_count_is_still_owed_where_the_store_dies_while_it_is_paid() -> None:
    """Three quotas are owed; the store takes one and is away again. Each is added once in the end."""
    taken: list[tuple[str, int]] = []
    dies_after = [1]

    class Store:
        async def take(self, asked: Any, now: float) -> Any:
            raise StoreAway("away")

        async def add(self, asked: Any, now: float) -> None:
            if len(taken) == dies_after[0]:
                dies_after[0] = 99
                raise StoreAway("died while it was paid")
            taken.append((asked[0][1], asked[0][2]))

        async def answers(self) -> bool:
            return True

    local = MemoryCounters()
    quota = Limiter("@quota/p", "p", (Stretch(100, 0, 2_000_000_000, "day"),))
    local.bind(quota)
    said: list[str] = []
    counting = SharedCounting(Store(), local, said.append)  # type: ignore[arg-type]

    async def work() -> None:
        for key, cost in (("a", 1), ("b", 2), ("c", 3)):
            await counting.take([(quota, key, cost)], NOW)
        watching = asyncio.create_task(counting.run())
        async with asyncio.timeout(20):
            while len(taken) < 3:  # noqa: ASYNC110 - the store knows of no event
                await asyncio.sleep(0.01)
        watching.cancel()
        await asyncio.gather(watching, return_exceptions=True)

    apart(asyncio.run, work())
    assert sorted(taken) == [("a", 1), ("b", 2), ("c", 3)]
    assert counting.switched == 2
