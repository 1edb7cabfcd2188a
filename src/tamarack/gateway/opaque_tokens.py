"""Looking up opaque tokens: the first call that shows one waits for what the sign-in service keeps of it.

All that are asked for while a query is under way go into the next one, so that many new tokens, or many that nobody
made, cost one connection and one query at a time.
"""

import asyncio
from collections.abc import Awaitable, Callable, Mapping, Sequence
from time import time
from typing import Any

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
