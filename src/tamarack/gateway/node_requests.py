"""Answering what the console asks of a node itself."""

import asyncio
from typing import Any

from tamarack.core.limits.live import listed
from tamarack.core.limits.store import StoreAway
from tamarack.core.trying.node_request import NodeRequest
from tamarack.gateway.caches.node_caches import NodeCaches
from tamarack.gateway.counters.redis_counters import RedisCounters
from tamarack.gateway.metering import Metering

MOST_LISTED = 1_000


async def answer_request(metering: Metering, caches: NodeCaches, request: NodeRequest, now: float) -> dict[str, Any]:
    """The answer as JSON data: how the node counts, and what was asked for or what went wrong."""
    answer: dict[str, Any] = {"counting": metering.counting, "counters": [], "problem": ""}
    if request.do == "kept":
        most = min(request.most, MOST_LISTED)
        kept, many, size = await caches.listed(request.id, request.search, now, most)
        return answer | {"kept": [tuple(one) for one in kept], "kept_many": many, "kept_bytes": size}
    try:
        if request.do == "clear":
            await _clear(metering, request)
        else:
            answer["counters"] = await _list(metering, request, now)
    except StoreAway as error:
        answer["problem"] = f"the shared counters do not answer: {error}"
    return answer


def _shared(metering: Metering) -> RedisCounters | None:
    shared = metering.shared
    if shared is None or shared.away_since or not isinstance(shared.store, RedisCounters):
        return None
    return shared.store


async def _list(metering: Metering, request: NodeRequest, now: float) -> list[tuple[Any, ...]]:
    most = min(request.most, MOST_LISTED)
    store = _shared(metering)
    if store is not None:
        found = await store.live(metering.local.limiters(), request.search, now, most)
    else:
        found = []
        for page in metering.local.live_pages(request.search, now):
            found = listed([*found, *page], most)
            await asyncio.sleep(0)  # calls have their turn
    held = metering.held()
    return [(*one[:6], held.get((one.id, one.key), 0)) for one in found]


async def _clear(metering: Metering, request: NodeRequest) -> None:
    metering.local.clear(request.id, request.key)
    store = _shared(metering)
    limiter = metering.local.limiters().get(request.id)
    if store is not None and limiter is not None:
        await store.clear(limiter, request.key)
