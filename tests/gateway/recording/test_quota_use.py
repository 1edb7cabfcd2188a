"""What counted against quotas outlasts a node: batches to the spool, a log of its own, and Redis brought up to it."""

import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import psycopg
import pytest

from gateway.harness import running
from gateway.test_carry import answering
from gateway.test_metering import PATH, metered
from helpers import fresh_redis
from tamarack.core.limits.store import Limiter
from tamarack.core.limits.stretch import Stretch
from tamarack.gateway.counters.restore import restore
from tamarack.gateway.feed.kept import KeptState
from tamarack.gateway.recording.quota_use import QuotaUse
from tamarack.gateway.recording.recorder import Recorder
from tamarack.gateway.upstream.scripted import ScriptedUpstream
from tamarack.settings import Settings

NOW = 1_795_000_000


def restored(database: str, redis: str) -> int:
    """What was raised; asked on a thread of its own, for the browser of other tests has a loop on this one."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(restore, database, redis).result()


def limiter(start: int = NOW - 10, end: int = NOW + 90) -> Limiter:
    return Limiter("@quota/passage", "skiff", (Stretch(9, start, end, "day"),))


def test_use_goes_to_the_spool_and_to_the_nodes_own_log_and_is_read_back_together(tmp_path: Path) -> None:
    kept = KeptState(tmp_path)
    used = QuotaUse("test", kept.keep_quotas)
    recorder = Recorder(tmp_path / "spool", 10**6, 1.0, used)
    for batch in range(2):
        for _ in range(3):
            used.add(limiter(), "s", 2)
        used.add(limiter(), "t", 1)
        used.add(limiter(NOW - 100, NOW - 10), "s", 5)  # a stretch that is over
        recorder.flush()
        assert len(list((tmp_path / "spool").glob("*.quotas"))) == batch + 1
    recorder.flush()
    files = sorted((tmp_path / "spool").glob("*.quotas"))
    assert len(files) == 2
    assert ["test", "@quota/passage", "s", NOW - 10, NOW + 90, 9, 6] in json.loads(files[0].read_text())
    with (tmp_path / "quotas.jsonl").open("a") as log:
        log.write('["test", "@quota/pass')  # cut off by a crash
    rows = sorted(KeptState(tmp_path).quotas(NOW))
    assert [(row[2], row[-1]) for row in rows] == [("s", 12), ("t", 2)]
    assert sorted(KeptState(tmp_path).quotas(NOW)) == rows  # put in order, it says the same


def test_a_full_spool_loses_no_call_and_says_how_many_it_dropped(tmp_path: Path) -> None:
    used = QuotaUse("production")
    recorder = Recorder(tmp_path / "spool", 0, 1.0, used)
    (tmp_path / "spool" / "older").write_text("x")
    used.add(limiter(), "s", 4)
    recorder.flush()
    assert recorder.dropped_quotas == 4


def test_redis_is_raised_to_what_the_database_knows_and_lowered_by_nothing(settings: Settings, redis_port: int) -> None:
    address = fresh_redis(redis_port, 4)
    plan: dict[str, Any] = {"quota_calls": 9, "quota_period": "month"}
    with running(metered(plan=plan), ScriptedUpstream(answering), redis=address) as node:
        assert "r=8;" in node.get(PATH)["ratelimit"]
        ((environment, quota, key, start, end, limit, calls),) = node.used.take()
        with psycopg.connect(settings.database, autocommit=True) as connection:
            connection.execute(
                "INSERT INTO quota_used VALUES (%s, %s, %s, to_timestamp(%s), to_timestamp(%s), %s, %s, 0, now())",
                (environment, quota, key, start, end, calls + 5, limit),
            )
        assert restored(settings.database, address) == 1
        assert restored(settings.database, address) == 0
        assert "r=2;" in node.get(PATH)["ratelimit"]  # six were used, and this one
        assert restored(settings.database, address) == 0  # the store is ahead of the database


@pytest.mark.parametrize("calls", [1, 4])
def test_a_node_that_counts_by_itself_goes_on_counting_after_a_restart(tmp_path: Path, calls: int) -> None:
    kept = KeptState(tmp_path)
    with running(metered(plan={"quota_calls": 4}), ScriptedUpstream(answering)) as node:
        assert [node.get(PATH).status for _ in range(calls)] == [200] * calls
        kept.keep_quotas(node.used.take())
    with running(metered(plan={"quota_calls": 4}), ScriptedUpstream(answering)) as node:
        for _, id, key, start, _, _, many in KeptState(tmp_path).quotas(0.0):
            node.counters.restore(id, key, start, many)
        assert [node.get(PATH).status for _ in range(5 - calls)] == [200] * (4 - calls) + [429]
