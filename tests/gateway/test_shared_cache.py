"""Answers that nodes keep together in Redis; what happens while it is away; and the bound of its bytes."""

import asyncio
import time
from typing import Any

import pytest

from gateway.harness import running
from gateway.test_cache import FRESH, PATH, Cached
from gateway.test_shared_counters import redis
from helpers import apart, free_port, fresh_redis, until
from tamarack.core.caching.kept import Kept, Terms
from tamarack.core.caching.memory import SPACE
from tamarack.gateway.caches.redis_cache import RedisCache, packed, unpacked

SHARED = "shared by all nodes"


def kept(name: str, size: int = 10, policy: str = "sailings/2/response-cache", **terms: Any) -> Kept:
    now = time.time()
    key = b"\0" * SPACE + f"GET http://a/{name}".encode()
    fields = b'etag: "1"\r\nx-tide: h\xf6ch\r\n'
    return Kept(policy, key, 200, fields, b"\0\n" * (size // 2), Terms(60, 5, 7, True), now - 3, now)


def with_cache(address: str, work: Any, most: int = 1_000_000) -> Any:
    async def run() -> Any:
        cache = RedisCache(address, "production", 2.0, most)
        try:
            return await work(cache)
        finally:
            while cache._writing:
                await asyncio.gather(*cache._writing)
            await cache.close()

    return apart(asyncio.run, run())


def test_an_answer_is_the_same_after_it_was_packed() -> None:
    before = kept("x")
    after = unpacked(packed(before), before.key)
    assert after is not None
    names = [name for name in Kept.__slots__ if name not in ("fresh_until", "stale_while", "stale_on_error")]
    assert [getattr(after, name) for name in names] == [getattr(before, name) for name in names]
    assert after.fresh_until == pytest.approx(before.fresh_until)
    assert unpacked(packed(before), b"another key") is None
    assert unpacked(b"nothing of ours", before.key) is None


def test_two_nodes_give_what_either_keeps_and_forget_it_together(redis_port: int) -> None:
    cached = Cached(FRESH, where=SHARED)
    address = fresh_redis(redis_port, 5)
    with (
        running(cached.made, cached.upstream, shared_cache=address) as one,
        running(cached.made, cached.upstream, shared_cache=address) as two,
    ):
        one.get(f"{PATH}/7")
        until(lambda: two.get(f"{PATH}/7")["cache-status"].startswith("tamarack; hit"), "the other node's hit")
        first = one.get(f"{PATH}/7")  # whichever of them was written last is what both give now
        assert two.get(f"{PATH}/7").body == first.body
        asked = cached.asked
        two.get(f"{PATH}/7", method="PUT")
        until(lambda: one.get(f"{PATH}/7").body != first.body, "the answer to be invalid")
        assert cached.asked >= asked + 2


def test_while_redis_is_away_calls_go_on_to_the_backend() -> None:
    cached = Cached(FRESH, where=SHARED)
    port = free_port()
    said: list[str] = []
    with (
        redis(port) as server,
        running(cached.made, cached.upstream, shared_cache=f"redis://127.0.0.1:{port}/0", said=said) as node,
    ):
        until(lambda: node.get(PATH)["cache-status"].startswith("tamarack; hit"), "a hit")
        server.terminate()
        server.wait(10)
        asked = cached.asked
        assert [node.get(f"{PATH}?n={n}").status for n in range(3)] == [200] * 3
        assert cached.asked == asked + 3
        assert sum("the shared cache is away" in line for line in said) >= 1


def test_all_together_never_take_more_than_their_bytes_and_the_oldest_go_first(redis_port: int) -> None:
    size = kept("0", 1_000).size

    async def work(cache: RedisCache) -> list[bool]:
        for number in range(10):
            await cache._keep(kept(str(number), 1_000))
        await cache._keep(kept("9", 1_000))  # again: it counts once
        found = [await cache.get(kept(str(number)).key, time.time()) is not None for number in range(10)]
        listed, many, bytes_ = await cache.listed("sailings/2/response-cache", "", time.time(), 100)
        assert (len(listed), many, bytes_) == (4, 4, 4 * size)
        return found

    assert with_cache(fresh_redis(redis_port, 6), work, size * 4 + 5) == [False] * 6 + [True] * 4


def test_a_purge_means_a_policys_keys_alone(redis_port: int) -> None:
    async def work(cache: RedisCache) -> Any:
        for name in ("x/1", "x/2", "y/1"):
            await cache._keep(kept(name))
        for _ in range(3):
            await cache.get(kept("y/1").key, time.time())
        await asyncio.gather(*cache._writing)
        hits = {one.key: one.hits for one in (await cache.listed("sailings/2/response-cache", "", time.time(), 9))[0]}
        assert hits == {"GET http://a/x/1": 0, "GET http://a/x/2": 0, "GET http://a/y/1": 3}
        await cache._keep(kept("x/3", policy="other/1/cache"))
        later = time.time() + 1
        assert await cache.purge("sailings/2/response-cache", "GET http://a/x", False, time.time() - 60) == 0
        assert await cache.purge("sailings/2/response-cache", "GET http://a/x/1", True, later) == 1
        assert await cache.purge("sailings/2/response-cache", "GET http://a/x", False, later) == 1
        assert await cache.purge("sailings/2/response-cache", "", False, later) == 1
        return (await cache.listed("other/1/cache", "x", time.time(), 10))[1]

    assert with_cache(fresh_redis(redis_port, 7), work) == 1
