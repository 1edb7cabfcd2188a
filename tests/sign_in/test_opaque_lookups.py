"""Looking up opaque tokens: one query for all that wait, nothing lost when the database is away, and real rows."""

import asyncio
from collections.abc import Coroutine, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from typing import Any

from sqlmodel import Session

from sign_in.passengers import Passengers
from tamarack.core.sign_in.opaque_tokens import MOST, OpaqueTokens
from tamarack.gateway.feed.database import DatabaseFeed
from tamarack.gateway.opaque_tokens import MOST_WAITING, TokenFinder
from tamarack.settings import Settings
from tamarack.store.columns import now
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.clients import digest_of
from tamarack.store.sign_in.tables import OpaqueToken

CLAIMS = {"exp": 4_000_000_000, "sub": "u1"}


def go(work: Coroutine[Any, Any, None]) -> None:
    """Run it to its end on a loop of its own thread: a browser's may be running in this one."""
    with ThreadPoolExecutor(1) as pool:
        pool.submit(asyncio.run, work).result()


class Asked:
    """Answers once it is let go on, and says what was asked for together."""

    def __init__(self, known: Mapping[bytes, dict[str, Any]] | None) -> None:
        self.known = known
        self.batches: list[list[bytes]] = []
        self.go_on = asyncio.Event()

    async def __call__(self, tokens: Sequence[bytes]) -> Mapping[bytes, dict[str, Any]]:
        self.batches.append(list(tokens))
        await self.go_on.wait()
        if self.known is None:
            raise OSError("the database is away")
        return self.known


def test_all_that_wait_go_into_the_next_query_and_each_is_answered() -> None:
    async def run() -> None:
        held, asked = OpaqueTokens(), Asked({b"a": CLAIMS, b"c": CLAIMS})
        finder = TokenFinder(held, asked)
        first = asyncio.create_task(finder.find(b"a"))
        await asyncio.sleep(0)
        await asyncio.sleep(0)
        rest = [asyncio.create_task(finder.find(token)) for token in (b"a", b"b", b"c", b"b")]
        await asyncio.sleep(0)
        asked.go_on.set()
        assert await asyncio.gather(first, *rest) == [True] * 5
        assert len(asked.batches) == 2 and asked.batches[0] == [b"a"] and set(asked.batches[1]) <= {b"a", b"b", b"c"}
        assert [getattr(held.known(one, 0), "claims", "?") for one in (b"a", b"b", b"c")] == [CLAIMS, None, CLAIMS]

    go(run())


def test_a_database_that_is_away_is_no_answer_and_is_asked_again() -> None:
    async def run() -> None:
        held, asked = OpaqueTokens(), Asked(None)
        asked.go_on.set()
        finder = TokenFinder(held, asked)
        assert await finder.find(b"a") is False and held.known(b"a", 0) is None
        asked.known = {b"a": CLAIMS}
        assert await finder.find(b"a") is True

    go(run())


def test_no_more_wait_than_may() -> None:
    async def run() -> None:
        asked = Asked({})
        finder = TokenFinder(OpaqueTokens(), asked)
        waiting = [asyncio.create_task(finder.find(b"%d" % number)) for number in range(MOST_WAITING)]
        await asyncio.sleep(0)
        assert await finder.find(b"one more") is False
        asked.go_on.set()
        assert all(await asyncio.gather(*waiting))

    go(run())


def test_a_caller_who_leaves_takes_nobody_elses_answer_along() -> None:
    async def run() -> None:
        asked = Asked({b"a": CLAIMS})
        finder = TokenFinder(OpaqueTokens(), asked)
        one, other = asyncio.create_task(finder.find(b"a")), asyncio.create_task(finder.find(b"a"))
        await asyncio.sleep(0)
        one.cancel()
        asked.go_on.set()
        assert await other is True

    go(run())


def test_what_is_known_is_bounded_and_over_in_time() -> None:
    held = OpaqueTokens()
    held.put(b"good", {"exp": 100}, 0)
    held.put(b"none", None, 0)
    assert held.known(b"good", 99) is not None and held.known(b"good", 100) is None
    assert held.known(b"none", 9) is not None and held.known(b"none", 11) is None, "it may have been made meanwhile"
    for number in range(MOST + 1):
        held.put(b"%d" % number, CLAIMS, 0)
    assert held.known(b"good", 0) is None and held.known(b"1", 0) is not None and held.known(b"0", 0) is None


def test_rows_are_found_by_digest_while_token_and_grant_are_good(
    world: Session, passengers: Passengers, settings: Settings
) -> None:
    pepper = settings.keys.raw("pepper")
    grant = granting.new_grant(world, passengers.web, passengers.user.id, [])
    ended = granting.new_grant(world, passengers.web, passengers.user.id, [])
    granting.end_grant(world, ended, "over")
    hour = timedelta(hours=1)
    for token, whose, until in (("at_good", grant, hour), ("at_old", grant, -hour), ("at_ended", ended, hour)):
        world.add(
            OpaqueToken(digest=digest_of(token, pepper), grant_id=whose.id, claims=CLAIMS, expires_at=now() + until)
        )
    world.commit()

    async def run() -> None:
        feed = DatabaseFeed(settings.database, "n1", "production", pepper)
        found = await feed.find_tokens([b"at_good", b"at_old", b"at_ended", b"at_none", b"\xff\x00"])
        assert found == {b"at_good": CLAIMS}
        assert await feed.find_tokens([b"at_good"]) == found, "on the same connection"
        await feed.close()
        away = DatabaseFeed("postgresql://nobody@127.0.0.1:9/none", "n1", "production", pepper)
        try:
            await away.find_tokens([b"at_good"])
        except OSError:
            return
        raise AssertionError("it said nothing")

    go(run())
