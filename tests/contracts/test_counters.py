"""What every counter store holds to: the same decisions on the same arrivals, in memory and in Redis."""

import asyncio
import signal
import subprocess
from collections.abc import Callable, Coroutine, Iterator
from typing import Any

import pytest
import uvloop
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pydantic import TypeAdapter

from helpers import apart, free_port, until
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Limiter, StoreAway, Taken
from tamarack.core.limits.stretch import Stretch
from tamarack.core.limits.unit import Unit
from tamarack.core.limits.window import Window
from tamarack.gateway.counters.redis_counters import RedisCounters
from tamarack.gateway.counters.redis_wire import RedisWire

_WINDOW = TypeAdapter(Window)
Take = Callable[[list[tuple[Limiter, str]], float, int], Taken]
NOW = 1_795_000_000.0


def limiter(name: str, *texts: str, id: str = "", unit: Unit = "calls") -> Limiter:
    return Limiter(id or name, name, tuple(_WINDOW.validate_python(text) for text in texts), unit=unit)


def costing(asked: list[tuple[Limiter, str]], cost: int = 1) -> list[tuple[Limiter, str, int]]:
    return [(limiter, key, cost) for limiter, key in asked]


class Stores:
    """A store of each kind, used the same way; `fresh` makes one that has counted nothing."""

    def __init__(self, port: int) -> None:
        self._port = port
        self._number = 0
        self.loop = uvloop.new_event_loop()  # as a node has
        self._open: list[RedisCounters] = []

    def memory(self, *limiters: Limiter) -> Take:
        store = MemoryCounters()
        for one in limiters:
            store.bind(one)
        return lambda asked, now, cost=1: store.take(costing(asked, cost), now)  # type: ignore[misc]

    def fresh_redis(self) -> RedisCounters:
        self._number += 1
        store = RedisCounters(f"redis://127.0.0.1:{self._port}", f"t{self._number}", 5.0)
        self._open.append(store)
        return store

    def redis(self, *limiters: Limiter) -> Take:
        store = self.fresh_redis()
        return lambda asked, now, cost=1: self.run(store.take(costing(asked, cost), now))  # type: ignore[misc]

    def run(self, work: Coroutine[Any, Any, Any]) -> Any:
        return apart(self.loop.run_until_complete, work)

    def close(self) -> None:
        for store in self._open:
            self.run(store.close())
        self.loop.close()


@pytest.fixture(scope="module")
def stores(redis_port: int) -> Iterator[Stores]:
    made = Stores(redis_port)
    yield made
    made.close()


def said(taken: Taken) -> tuple[bool, str, str, int, int]:
    return taken.admitted, taken.limiter.name, str(taken.window), taken.left, taken.reset


_ARRIVALS = st.lists(
    st.tuples(st.integers(0, 30_000), st.sampled_from("ab"), st.integers(1, 2)), min_size=1, max_size=40
).map(sorted)
_TEXTS = st.sampled_from(
    ["3 per 5 seconds", "4 per 7 seconds, sliding", "2 per 3 seconds, burst 4", "7 per minute", "0.7 per second, burst 2",
     "5 per 10 seconds, sliding", "1 per second, burst 1"]
)  # fmt: skip


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(arrivals=_ARRIVALS, first=_TEXTS, second=_TEXTS, third=_TEXTS)
def test_memory_and_redis_decide_alike(
    stores: Stores, arrivals: list[tuple[int, str, int]], first: str, second: str, third: str
) -> None:
    steady, plan = limiter("steady", *dict.fromkeys((first, second))), limiter("plan", third)
    memory, shared = stores.memory(steady, plan), stores.redis(steady, plan)
    for at, key, cost in arrivals:
        asked = [(steady, key), (plan, "everyone")]
        now = NOW + at / 1000
        assert said(memory(asked, now, cost)) == said(shared(asked, now, cost))


def quota(calls: int, start: int, length: int = 60, soft: bool = False, unit: Unit = "calls") -> Limiter:
    return Limiter("@quota/passage", "skiff", (Stretch(calls, start, start + length, "day", soft),), unit=unit)


@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(arrivals=_ARRIVALS, text=_TEXTS, calls=st.integers(1, 9), soft=st.booleans(), added=st.integers(0, 3))
def test_memory_and_redis_count_quotas_and_later_costs_alike(
    stores: Stores, arrivals: list[tuple[int, str, int]], text: str, calls: int, soft: bool, added: int
) -> None:
    steady = limiter("steady", text)
    made: dict[int, Limiter] = {}
    memory, shared = MemoryCounters(), stores.fresh_redis()
    memory.bind(steady)
    for at, key, cost in arrivals:
        now = NOW + at / 1000
        start = int(now) // 10 * 10
        if start not in made:
            made[start] = quota(calls, start, 10, soft)
            memory.bind(made[start])
        asked = [(steady, key), (made[start], key)]
        mine, theirs = memory.take(costing(asked, cost), now), stores.run(shared.take(costing(asked, cost), now))
        assert said(mine) == said(theirs)
        assert (mine.over is None) == (theirs.over is None)
        if mine.admitted and added:
            memory.add(costing(asked, added), now)
            stores.run(shared.add(costing(asked, added), now))


_RESERVED = st.lists(
    st.tuples(st.integers(0, 30_000), st.sampled_from("ab"), st.integers(0, 4), st.integers(0, 5), st.integers(0, 3)),
    min_size=1,
    max_size=40,
).map(sorted)


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(arrivals=_RESERVED, first=_TEXTS, second=_TEXTS, calls=st.integers(1, 9))
def test_memory_and_redis_settle_what_was_reserved_alike(
    stores: Stores, arrivals: list[tuple[int, str, int, int, int]], first: str, second: str, calls: int
) -> None:
    """A call reserves tokens; some calls later it has used fewer or more, and that is settled as of when it came."""
    steady, tokens = limiter("steady", second), limiter("tokens", first, unit="tokens")
    memory, shared = MemoryCounters(), stores.fresh_redis()
    memory.bind(steady)
    memory.bind(tokens)
    open_calls: list[tuple[int, float, list[tuple[Limiter, str, int]]]] = []
    for place, (at, key, reserved, used, later) in enumerate(arrivals):
        now = NOW + at / 1000
        for due in [one for one in open_calls if one[0] <= place]:
            open_calls.remove(due)
            memory.add(due[2], now, due[1])
            stores.run(shared.add(due[2], now, due[1]))
        budget = quota(calls, int(now) // 10 * 10, 10, unit="tokens")
        memory.bind(budget)
        asked = [(steady, key, 1), (tokens, key, reserved), (budget, key, reserved)]
        mine, theirs = memory.take(asked, now), stores.run(shared.take(asked, now))
        assert said(mine) == said(theirs)
        assert (mine.tokens and said(mine.tokens)) == (theirs.tokens and said(theirs.tokens))
        if mine.admitted and used != reserved:
            owed = [(one, key, used - reserved) for one in (tokens, budget)]
            open_calls.append((place + 1 + later, now, owed))


def test_live_counters_are_found_and_cleared_in_both(stores: Stores) -> None:
    one, two = (
        limiter("everywhere/steady", "5 per day", "9 per hour, sliding"),
        limiter("@plan/passage/skiff", "4 per day, burst 4"),
    )
    memory, shared = MemoryCounters(), stores.fresh_redis()
    for each in (one, two):
        memory.bind(each)
    for key in ("a", "a", "b|b"):
        memory.take([(one, key, 1), (two, key, 1)], NOW)
        stores.run(shared.take([(one, key, 1), (two, key, 1)], NOW))
    limiters = memory.limiters()
    for search in ("", "b|b", "plan", "nobody"):
        mine = sorted(memory.live(search, NOW, 100))
        assert mine == sorted(stores.run(shared.live(limiters, search, NOW, 100)))
    found = {(each.id, each.window, each.key): (each.used, each.limit) for each in memory.live("", NOW, 100)}
    assert found["everywhere/steady", "5 per day", "a"] == (2, 5)
    assert found["@plan/passage/skiff", "4 per day, burst 4", "b|b"] == (1, 4)
    memory.clear("everywhere/steady", "a")
    stores.run(shared.clear(one, "a"))
    assert {each.key for each in memory.live("steady", NOW, 9)} == {"b|b"}
    assert {each.key for each in stores.run(shared.live(limiters, "steady", NOW, 9))} == {"b|b"}


def test_a_limit_that_a_new_configuration_has_no_more_is_forgotten_unless_that_fails(stores: Stores) -> None:
    kept, gone = limiter("everywhere/steady", "5 per day"), limiter("sailings/2/steady", "5 per day")
    memory, shared = MemoryCounters(), stores.fresh_redis()
    for each in (kept, gone):
        memory.bind(each)
        memory.take([(each, "a", 1)], NOW)
        stores.run(shared.take([(each, "a", 1)], NOW))

    def shown() -> set[str]:
        """The limits among the live counters; the shared ones are asked for what is bound here."""
        mine = {one.id for one in memory.live("", NOW, 9)}
        assert mine == {one.id for one in stores.run(shared.live(memory.limiters(), "", NOW, 9))}
        return mine

    with pytest.raises(RuntimeError), memory.anew():
        memory.bind(kept)
        raise RuntimeError("it cannot be taken up")
    assert shown() == {"everywhere/steady", "sailings/2/steady"}
    with memory.anew():
        memory.bind(kept)
    assert shown() == {"everywhere/steady"}
    assert memory.take([(kept, "a", 1)], NOW).left == 3, "what is kept counts on"


@pytest.fixture(params=["memory", "redis"])
def take_for(request: pytest.FixtureRequest, stores: Stores) -> Callable[..., Take]:
    made: Callable[..., Take] = getattr(stores, request.param)
    return made


def test_a_refused_call_counts_nowhere(take_for: Callable[..., Take]) -> None:
    wide, tight = limiter("wide", "10 per day", "9 per hour, sliding"), limiter("tight", "1 per day, burst 1")
    take = take_for(wide, tight)
    assert take([(wide, "x"), (tight, "x")], NOW, 1).admitted
    for _ in range(5):
        refused = take([(wide, "x"), (tight, "x")], NOW, 1)
        assert said(refused)[:2] == (False, "tight")
    assert take([(wide, "x")], NOW, 1).left == 7


def test_keys_are_counted_apart(take_for: Callable[..., Take]) -> None:
    one = limiter("steady", "1 per day")
    take = take_for(one)
    assert [take([(one, key)], NOW, 1).admitted for key in ("a", "b", "a", "ä:b")] == [True, True, False, True]


@pytest.mark.parametrize("text", ["2 per 9 seconds, sliding", "2 per 9 seconds, burst 2", "2 per 9 seconds"])
def test_a_clock_that_goes_backwards_lets_nothing_more_through(take_for: Callable[..., Take], text: str) -> None:
    one = limiter("steady", text)
    take = take_for(one)
    moments = (NOW + 100, NOW + 99, NOW + 50, NOW + 120)
    assert [take([(one, "x")], at, 1).admitted for at in moments] == [True, True, False, True]


def test_the_largest_numbers_are_counted_exactly(take_for: Callable[..., Take]) -> None:
    one = limiter("wide", "1000000 per day, burst 100000")
    take = take_for(one)
    assert take([(one, "x")], NOW, 99_999).left == 1
    assert take([(one, "x")], NOW + 0.0001, 1).left == 0
    assert not take([(one, "x")], NOW + 0.0002, 1).admitted
    assert take([(one, "x")], NOW + 0.0865, 1).admitted


def test_many_at_once_get_exactly_what_the_limit_lets_through(stores: Stores, redis_port: int) -> None:
    """Two nodes with connections of their own, all asking at the same time."""
    one = limiter("steady", "50 per day", "60 per hour, sliding")
    nodes = [RedisCounters(f"redis://127.0.0.1:{redis_port}", "shared", 5.0) for _ in range(2)]

    async def load() -> list[Taken]:
        return await asyncio.gather(*(nodes[n % 2].take([(one, "x", 1)], NOW + n / 1000) for n in range(120)))

    taken = stores.run(load())
    assert sum(1 for each in taken if each.admitted) == 50
    assert sorted(each.left for each in taken if each.admitted) == list(range(50))
    for node in nodes:
        stores.run(node.close())


def test_very_many_at_once_share_a_connection(stores: Stores, redis_port: int) -> None:
    store = RedisCounters(f"redis://127.0.0.1:{redis_port}", "crowd", 10.0)
    wide = limiter("wide", "1000 per day")

    async def crowd() -> list[Taken]:
        return await asyncio.gather(*(store.take([(wide, "x", 1)], NOW) for _ in range(900)))

    assert min(each.left for each in stores.run(crowd())) == 100
    stores.run(store.close())


def test_a_call_that_is_not_answered_in_time_counts_at_most_once(stores: Stores) -> None:
    port = free_port()
    command = ["redis-server", "--port", str(port), "--bind", "127.0.0.1", "--save", ""]
    server = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    once = limiter("once", "9 per day")
    store, patient = (RedisCounters(f"redis://127.0.0.1:{port}", "p", within) for within in (0.3, 10.0))
    try:
        until(lambda: stores.run(patient.answers()), "the start of Redis")
        assert stores.run(store.take([(once, "x", 1)], NOW)).left == 8
        server.send_signal(signal.SIGSTOP)
        with pytest.raises(StoreAway):
            stores.run(store.take([(once, "x", 1)], NOW))
        server.send_signal(signal.SIGCONT)
        assert stores.run(patient.take([(once, "x", 1)], NOW)).left in (6, 7)
    finally:
        server.send_signal(signal.SIGCONT)
        stores.run(store.close())
        stores.run(patient.close())
        server.terminate()
        server.wait(10)


def test_an_answer_to_another_question_decides_nothing(stores: Stores, redis_port: int) -> None:
    store = RedisCounters(f"redis://127.0.0.1:{redis_port}", "mixed", 5.0)
    once = limiter("once", "9 per day")
    real = store._evaluate

    async def late(keys: Any, arguments: Any) -> Any:
        answered = await real(keys, arguments)
        return [*answered[:4], arguments[2] - 1, *answered[5:]]

    store._evaluate = late  # type: ignore[method-assign]
    with pytest.raises(StoreAway, match="another question"):
        stores.run(store.take([(once, "x", 1)], NOW))
    store._evaluate = real  # type: ignore[method-assign]
    assert stores.run(store.take([(once, "x", 1)], NOW)).left == 7
    stores.run(store.close())


def test_a_store_that_is_away_says_so(stores: Stores) -> None:
    away = RedisCounters(f"redis://127.0.0.1:{free_port()}", "x", 0.2)
    with pytest.raises(StoreAway):
        stores.run(away.take([(limiter("steady", "1 per day"), "x", 1)], NOW))
    assert stores.run(away.answers()) is False
    stores.run(away.close())


def test_a_lost_connection_a_forgotten_script_and_a_wrong_password_are_each_survived(
    stores: Stores, redis_port: int
) -> None:
    once, url = limiter("once", "9 per day"), f"redis://127.0.0.1:{redis_port}"
    store, other = RedisCounters(f"{url}/7", "wire", 2.0), RedisWire(url, 2.0)
    assert stores.run(store.take([(once, "x", 1)], NOW)).left == 8
    stores.run(other.ask("SCRIPT", "FLUSH"))
    assert stores.run(store.take([(once, "x", 1)], NOW)).left == 7
    stores.run(other.ask("CLIENT", "KILL", "TYPE", "normal", "SKIPME", "yes"))
    until(lambda: _taken(stores, store, once) == 6, "a new connection")
    stores.run(other.ask("CONFIG", "SET", "requirepass", "right"))
    try:
        locked = RedisCounters(url.replace("//", "//:wrong@"), "wire", 2.0)
        with pytest.raises(StoreAway, match="WRONGPASS"):
            stores.run(locked.take([(once, "x", 1)], NOW))
        opened = RedisCounters(url.replace("//", "//:right@") + "/7", "wire", 2.0)
        assert stores.run(opened.take([(once, "x", 1)], NOW)).left == 5
        stores.run(opened.close())
        stores.run(locked.close())
    finally:
        stores.run(other.ask("CONFIG", "SET", "requirepass", ""))
    with pytest.raises(StoreAway, match="ERR"):
        stores.run(RedisCounters(f"{url}/999", "wire", 2.0).take([(once, "x", 1)], NOW))
    with pytest.raises(ValueError, match="no address of Redis"):
        RedisWire("http://127.0.0.1:1", 1.0)
    other.close()
    stores.run(store.close())


def _taken(stores: Stores, store: RedisCounters, one: Limiter) -> int:
    try:
        return stores.run(store.take([(one, "x", 1)], NOW)).left  # type: ignore[no-any-return]
    except StoreAway:
        return -1
