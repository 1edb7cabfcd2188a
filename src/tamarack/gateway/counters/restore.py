"""Bringing the shared counts of quotas up to what the database knows: after the shared store lost what it kept."""

import asyncio
import time
from datetime import UTC, datetime

import psycopg

from tamarack.core.limits.store import Limiter, StoreAway
from tamarack.core.limits.stretch import Stretch
from tamarack.gateway.counters.redis_counters import RedisCounters

TIMEOUT_S = 5.0


async def restore_quotas(database: str, redis: str) -> int:
    """Raise every running quota's count to the database's, where it is below; returns how many were. Lowers none.

    Raises `StoreAway` where the shared store does not answer.
    """
    with psycopg.connect(database, autocommit=True) as connection:
        rows = connection.execute(
            "SELECT environment, quota, key, start, ends, calls, allowed FROM quota_used WHERE ends > now()"
        ).fetchall()
    stores: dict[str, RedisCounters] = {}
    raised = 0
    try:
        for environment, quota, key, start, ends, calls, allowed in rows:
            store = stores.get(environment)
            if store is None:
                store = stores[environment] = RedisCounters(redis, environment, TIMEOUT_S)
            stretch = Stretch(int(allowed), _seconds(start), _seconds(ends), "day")
            limiter = Limiter(quota, quota, (stretch,))
            now = time.time()
            missing = calls - (allowed - (await store.look([(limiter, key, 0)], now)).left)
            if missing > 0:
                await store.add([(limiter, key, missing)], now)
                raised += 1
    finally:
        for store in stores.values():
            await store.close()
    return raised


def _seconds(moment: datetime) -> int:
    return int(moment.astimezone(UTC).timestamp())


def restore(database: str, redis: str, tries: int = 50) -> int:
    """`restore_quotas`, waiting for the shared store to come up."""
    for _ in range(tries - 1):
        try:
            return asyncio.run(restore_quotas(database, redis))
        except StoreAway:
            time.sleep(0.1)
    return asyncio.run(restore_quotas(database, redis))
