"""What one process of a node asks the others, so that the console is answered for the whole node: the sealed request
that the console made goes on to each, and the answers become one.
"""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Awaitable, Callable, Sequence
from typing import Any

import orjson

from tamarack.core.limits.live import LiveCounter, listed

WITHIN_S = 2.0
MOST_BYTES = 4_000_000
LONGEST_REQUEST = 8_000

Answer = Callable[[bytes], Awaitable[bytes | None]]
"""Answers a sealed request; None where it is none of ours."""


class Siblings:
    """The other processes of a node."""

    def __init__(self, others: Sequence[str] = ()) -> None:
        self._others = others

    async def ask(self, sealed: bytes) -> list[dict[str, Any]]:
        """What each of the others answers; one that does not, because it is being started anew, is left out."""
        found = await asyncio.gather(*(self._ask(name, sealed) for name in self._others), return_exceptions=True)
        return [one for one in found if isinstance(one, dict)]

    async def _ask(self, name: str, sealed: bytes) -> dict[str, Any]:
        async with asyncio.timeout(WITHIN_S):
            connection = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
            connection.setblocking(False)
            try:
                await asyncio.get_running_loop().sock_connect(connection, name)
            except BaseException:
                connection.close()
                raise
            reader, writer = await asyncio.open_unix_connection(sock=connection)
            try:
                writer.write(sealed + b"\n")
                await writer.drain()
                said = b""
                while len(said) < MOST_BYTES and (piece := await reader.read(65_536)):
                    said += piece
                answer: dict[str, Any] = orjson.loads(said)
                return answer
            finally:
                writer.close()


async def serve_siblings(asked: socket.socket, answer: Answer) -> asyncio.Server:
    """Answer the other processes, at the socket that the parent made."""

    async def one(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            async with asyncio.timeout(WITHIN_S):
                sealed = (await reader.readline()).rstrip(b"\n")
                said = await answer(sealed)
                if said is not None:
                    writer.write(said)
                    await writer.drain()
        except (OSError, TimeoutError, ValueError):
            pass
        finally:
            writer.close()

    return await asyncio.start_unix_server(one, sock=asked, limit=LONGEST_REQUEST)


def together(own: dict[str, Any], others: Sequence[dict[str, Any]], most: int, shared: bool) -> dict[str, Any]:
    """One answer of several processes'. Counts of the same key are added up, unless all processes count together
    (`shared`): then each would tell the same, and only calls that wait are each process's own."""
    if not others:
        return own
    counters: dict[tuple[str, str, str], LiveCounter] = {}
    for answer in (own, *others):
        for one in (LiveCounter(*row) for row in answer["counters"]):
            known = counters.get((one.id, one.window, one.key))
            counters[one.id, one.window, one.key] = one if known is None else _added(known, one, shared)
    made = own | {"counters": [tuple(one) for one in listed(counters.values(), most)]}
    made["problem"] = next((one["problem"] for one in (own, *others) if one["problem"]), "")
    if "kept" in own:
        made["kept"] = [row for one in (own, *others) for row in one.get("kept", ())][:most]
        for number in ("kept_many", "kept_bytes"):
            made[number] = sum(int(one.get(number, 0)) for one in (own, *others))
    return made


def _added(known: LiveCounter, more: LiveCounter, shared: bool) -> LiveCounter:
    held = known.held + more.held
    if shared:
        return known._replace(used=max(known.used, more.used), held=held)
    return known._replace(used=known.used + more.used, held=held, reset=max(known.reset, more.reset))
