"""The feed read from a database near by. NOTIFY wakes it; a look every half second stands in where a notice is lost."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

import orjson
import psycopg
from psycopg import AsyncConnection
from psycopg.types.json import set_json_loads

from tamarack.core.identity.credentials import digest
from tamarack.core.nodes.feed import FeedEntry, News, Report, up_to_date
from tamarack.core.text import in_words
from tamarack.gateway.feed.contract import FeedAway, FeedEnded
from tamarack.store.nodes import statements


@contextmanager
def _or_away() -> Iterator[None]:
    try:
        yield
    except (psycopg.Error, OSError) as error:
        raise FeedAway(str(error)) from error


class DatabaseFeed:
    """A `gateway.feed.contract.Feed` of a node that may read the database itself."""

    called = "the database"
    look_within_s = 0.5

    def __init__(self, database: str, name: str, environment: str, pepper: bytes) -> None:
        self._database = database
        self._here = {"name": name, "environment": environment}
        self._pepper = pepper
        self._connection: AsyncConnection | None = None
        self._tokens: AsyncConnection | None = None

    async def begin(self) -> None:
        """See `Feed.begin`."""
        await self.close()
        with _or_away():
            connection = await AsyncConnection.connect(self._database, autocommit=True, connect_timeout=3)
            set_json_loads(orjson.loads, connection)
            await connection.execute("SET statement_timeout = '5s'")
            await connection.execute(f"LISTEN {statements.CHANNEL}")
            names = [row[0] async for row in await connection.execute(statements.ENVIRONMENTS)]
            self._connection = connection
        if self._here["environment"] not in names:
            raise FeedEnded(f"there is no environment {self._here['environment']!r}; there are {in_words(names)}")

    def _connected(self) -> AsyncConnection:
        if self._connection is None:
            raise FeedAway("no connection to the database was made")
        return self._connection

    async def look(self, after: int, above: int, standing: str, wait_s: float) -> News:
        """See `Feed.look`."""
        with _or_away():
            connection = self._connected()
            newest, number, asked = await self._where_things_are(connection)
            if (newest, asked) == (after, standing) and number <= above:
                async for _ in connection.notifies(timeout=min(wait_s, self.look_within_s), stop_after=1):
                    pass
                newest, number, asked = await self._where_things_are(connection)
            entries: list[FeedEntry] = []
            if newest > after:
                rows = await connection.execute(statements.ITEMS, {"after": after})
                entries = [FeedEntry(*row) for row in await rows.fetchall()]
            rollout = None
            if number > above and up_to_date(entries, newest):
                row = await connection.execute(statements.ROLLOUT, self._here | {"above": above})
                rollout = await row.fetchone()
            return News(newest, entries, rollout, asked)

    async def _where_things_are(self, connection: AsyncConnection) -> Any:
        rows = await connection.execute(statements.WHERE_THINGS_ARE, self._here)
        return await rows.fetchone()

    async def report(self, report: Report) -> float:
        """See `Feed.report`."""
        name, environment = self._here["name"], self._here["environment"]
        with _or_away():
            connection = self._connected()
            async with connection.transaction(), connection.cursor() as cursor:
                for statement, values in statements.steps_of(name, environment, report):
                    await cursor.executemany(statement, values)
                await cursor.execute(
                    statements.REPORT, statements.report_values(name, environment, report, joined=False)
                )
                row = await cursor.fetchone()
        if row is None:
            raise FeedAway(f"a node that joined, or was revoked, is called {name!r}: run this one under another name")
        return float(row[0])

    async def ask_for_key_set(self, url: str) -> None:
        """See `Feed.ask_for_key_set`."""
        with _or_away():
            connection = await AsyncConnection.connect(self._database, autocommit=True, connect_timeout=5)
            async with connection:
                await connection.execute(statements.ASK_FOR_KEYS, {"channel": statements.KEY_SETS, "url": url})

    async def find_tokens(self, tokens: Sequence[bytes]) -> Mapping[bytes, dict[str, Any]]:
        """See `Feed.find_tokens`. On a connection of its own, which is kept."""
        by_digest = {digest(token, self._pepper, "sign-in"): token for token in tokens}
        try:
            with _or_away():
                connection = self._tokens
                if connection is None or connection.closed:
                    connection = await AsyncConnection.connect(self._database, autocommit=True, connect_timeout=2)
                    await connection.execute("SET statement_timeout = '2s'")
                    self._tokens = connection
                rows = await connection.execute(statements.TOKENS, {"digests": list(by_digest)})
                return {by_digest[row[0]]: row[1] for row in await rows.fetchall()}
        except BaseException:  # also a query that was given up on: its answer must not be the next one's
            dropped, self._tokens = self._tokens, None
            if dropped is not None:
                await dropped.close()
            raise

    async def close(self) -> None:
        """See `Feed.close`."""
        for connection in (self._connection, self._tokens):
            if connection is not None:
                await connection.close()
        self._connection = self._tokens = None
