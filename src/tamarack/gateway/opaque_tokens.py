"""Looking up opaque tokens: the first call that shows one waits for what the sign-in service keeps of it.

All that are asked for while a query is under way go into the next one, so that many new tokens, or many that nobody
made, cost one connection and one query at a time.
"""

import asyncio
from collections.abc import Awaitable, Callable, Mapping, Sequence
from time import time
from typing import Any

import psycopg
from psycopg import AsyncConnection

from tamarack.core.identity.credentials import digest
from tamarack.core.sign_in.opaque_tokens import OpaqueTokens

WAIT_S = 2.0
MOST_WAITING = 256

Ask = Callable[[Sequence[bytes]], Awaitable[Mapping[bytes, dict[str, Any]]]]
"""What each of some tokens stands for; those that are not good are left out. Raises OSError where nobody answers."""


class TokenFinder:
    """Looks tokens up for the calls of a node."""

    def __init__(self, tokens: OpaqueTokens, ask: Ask) -> None:
        self._tokens = tokens
        self._ask = ask
        self._wanted: dict[bytes, asyncio.Future[bool]] = {}
        self._asking: asyncio.Task[None] | None = None
        self._waiting = 0

    async def find(self, token: bytes) -> bool:
        """Whether it is known now what a token is; False where nobody answers, or too many wait."""
        if self._waiting >= MOST_WAITING:
            return False
        found = self._wanted.get(token)
        if found is None:
            found = self._wanted[token] = asyncio.get_running_loop().create_future()
        if self._asking is None or self._asking.done():
            self._asking = asyncio.create_task(self._run())
        self._waiting += 1
        try:
            return await asyncio.shield(found)
        finally:
            self._waiting -= 1

    async def _run(self) -> None:
        while self._wanted:
            wanted, self._wanted = self._wanted, {}
            known = False
            try:
                async with asyncio.timeout(WAIT_S):
                    found = await self._ask(tuple(wanted))
                now = time()
                for token in wanted:
                    self._tokens.put(token, found.get(token), now)
                known = True
            except (TimeoutError, OSError):
                pass
            finally:
                for future in wanted.values():
                    if not future.done():
                        future.set_result(known)


async def no_tokens(tokens: Sequence[bytes]) -> Mapping[bytes, dict[str, Any]]:
    """An `Ask` for where there is nobody to ask."""
    raise OSError("nobody to ask")


class TokenQuery:
    """Asks the database, on a connection that is kept."""

    def __init__(self, database: str, pepper: bytes) -> None:
        self._database = database
        self._pepper = pepper
        self._connection: AsyncConnection | None = None

    async def __call__(self, tokens: Sequence[bytes]) -> Mapping[bytes, dict[str, Any]]:
        """See `Ask`."""
        by_digest = {digest(token, self._pepper, "sign-in"): token for token in tokens}
        try:
            connection = self._connection
            if connection is None or connection.closed:
                connection = await AsyncConnection.connect(self._database, autocommit=True, connect_timeout=2)
                await connection.execute("SET statement_timeout = '2s'")
                self._connection = connection
            rows = await connection.execute(
                "SELECT token.digest, token.claims FROM opaque_token token JOIN sign_in_grant ON sign_in_grant.id ="
                " token.grant_id WHERE token.digest = ANY(%s) AND token.expires_at > now()"
                " AND sign_in_grant.ended_at IS NULL",
                (list(by_digest),),
            )
            return {by_digest[row[0]]: row[1] for row in await rows.fetchall()}
        except psycopg.Error as error:
            await self._drop()
            raise OSError(str(error)) from error
        except BaseException:  # a query that was given up on: its answer must not be the next one's
            await self._drop()
            raise

    async def _drop(self) -> None:
        connection, self._connection = self._connection, None
        if connection is not None:
            await connection.close()
