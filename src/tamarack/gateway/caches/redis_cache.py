"""Kept answers in Redis, shared by all nodes: bounded in bytes, those not used for the longest go first.

While Redis is away calls go on to the backend: the first that waits too long for it makes it count as away for half a
second.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine
from hashlib import blake2b, sha1
from pathlib import Path
from time import monotonic, time
from typing import Any

import orjson

from tamarack.core.caching.kept import Kept, Terms
from tamarack.core.caching.memory import Listed, listed, meant, path_of, shown_key
from tamarack.gateway.counters.redis_wire import RedisWire, WireError

_HERE = Path(__file__).parent
KEEP, FORGET = (_HERE / "keep.lua").read_text(), (_HERE / "forget.lua").read_text()
AWAY_S = 0.5
"""For how long it is not asked after it was away."""
MOST_LISTED = 50_000
"""Answers that a listing or a purge looks at."""
MOST_PENDING = 1_000
"""Writes under way; beyond that, answers are not kept."""
_A_PAGE = 500


class RedisCache:
    """`prefix` keeps environments apart. `most_bytes` bounds what all kept answers take together."""

    def __init__(
        self, url: str, prefix: str, timeout_s: float, most_bytes: int, log: Callable[[str], None] = lambda text: None
    ) -> None:
        self._prefix = f"kept|{prefix}|".encode()  # apart from the counters' names
        self._wire = RedisWire(url, timeout_s)
        self._most = most_bytes
        self._log = log
        self._away_until = 0.0
        self._writing: set[asyncio.Task[None]] = set()

    @property
    def answers(self) -> bool:
        """Whether it is asked at all."""
        return monotonic() >= self._away_until

    def _name(self, kind: bytes, digest: bytes = b"") -> bytes:
        return self._prefix + kind + digest

    @staticmethod
    def _digest(key: bytes) -> bytes:
        return blake2b(key, digest_size=16).hexdigest().encode()

    def _went_away(self, error: WireError) -> None:
        if self.answers:
            self._log(f"the shared cache is away, calls go on to the backend meanwhile: {error}")
        self._away_until = monotonic() + AWAY_S

    async def get(self, key: bytes, now: float) -> Kept | None:
        """The answer kept under a key; None where there is none, or Redis is away."""
        if not self.answers:
            return None
        digest = self._digest(key)
        try:
            value = await self._wire.ask("GET", self._name(b"answer|", digest))
        except WireError as error:
            self._went_away(error)
            return None
        kept = unpacked(value, key) if value is not None else None
        if kept is not None:
            self._beside(self._wire.ask("ZADD", self._name(b"uses"), "XX", str(now), digest))
            self._beside(self._wire.ask("HINCRBY", self._name(b"hits"), digest, 1))
        return kept

    def keep(self, kept: Kept) -> None:
        """Keep an answer, beside the call."""
        if kept.size <= self._most and self.answers:
            self._beside(self._keep(kept))

    async def _keep(self, kept: Kept) -> None:
        now = time()
        digest = self._digest(kept.key)
        keys = (
            self._name(b"answer|", digest),
            self._name(b"uses"),
            self._name(b"about"),
            self._name(b"bytes"),
            self._name(b"path|", self._digest(path_of(kept.key))),
            self._name(b"hits"),
        )
        lasts_ms = max(1, int((kept.ends() - now) * 1000))
        about = b"%d\n%b\n%b" % (kept.size, kept.policy.encode(), kept.key)
        await self._run(KEEP, keys, packed(kept), lasts_ms, kept.size, self._most, str(now), digest, about)

    async def _run(self, script: str, keys: tuple[bytes, ...], *arguments: Any) -> Any:
        name = sha1(script.encode(), usedforsecurity=False).hexdigest()
        try:
            return await self._wire.ask("EVALSHA", name, len(keys), *keys, *arguments)
        except WireError as error:
            if not str(error).startswith("NOSCRIPT"):
                raise
        return await self._wire.ask("EVAL", script, len(keys), *keys, *arguments)

    def drop(self, key: bytes) -> None:
        """Forget one answer, beside the call."""
        self._beside(self._forget(b"", self._digest(key)))

    def invalidate(self, path: bytes) -> None:
        """Forget all that is kept of a path, beside the call."""
        self._beside(self._forget(self._digest(path)))

    async def _forget(self, path: bytes, *digests: bytes) -> Any:
        keys = (self._name(b"answer|"), self._name(b"uses"), self._name(b"about"), self._name(b"bytes"),
                self._name(b"path|", path), self._name(b"hits"))  # fmt: skip
        return await self._run(FORGET, keys, *digests)

    def _beside(self, work: Coroutine[Any, Any, Any]) -> None:
        """Do something that no call waits for."""
        if len(self._writing) >= MOST_PENDING:
            work.close()
            return

        async def done() -> None:
            try:
                await work
            except WireError as error:
                self._went_away(error)

        task = asyncio.get_running_loop().create_task(done())
        self._writing.add(task)
        task.add_done_callback(self._writing.discard)

    async def _about(self, policy: str) -> list[tuple[bytes, int, bytes]]:
        """Digest, size and key of all that a policy keeps. Raises `WireError`."""
        found: list[tuple[bytes, int, bytes]] = []
        cursor: Any = b"0"
        seen = 0
        while seen < MOST_LISTED:
            cursor, pairs = await self._wire.ask("HSCAN", self._name(b"about"), cursor, "COUNT", _A_PAGE)
            for digest, about in zip(pairs[::2], pairs[1::2], strict=True):
                size, of, key = about.split(b"\n", 2)
                if of.decode() == policy:
                    found.append((digest, int(size), key))
            seen += _A_PAGE
            if cursor == b"0":
                break
        return found

    async def purge(self, policy: str, prefix: str, exact: bool, before: float) -> int:
        """Forget what a policy kept before a moment. Returns how many; 0 while Redis is away."""
        try:
            names = [one for one in await self._about(policy) if meant(shown_key(one[2]), prefix, exact)]
            older = []
            for digest, _, key in names:
                value = await self._wire.ask("GET", self._name(b"answer|", digest))
                kept = unpacked(value, key) if value is not None else None
                if kept is None or kept.kept_at <= before:
                    older.append(digest)
            for start in range(0, len(older), _A_PAGE):
                await self._forget(b"", *older[start : start + _A_PAGE])
        except WireError as error:
            self._went_away(error)
            return 0
        return len(older)

    async def listed(self, policy: str, search: str, now: float, most: int) -> tuple[list[Listed], int, int]:
        """What a policy keeps, how many answers that are, and their bytes; nothing while Redis is away."""
        found: list[Listed] = []
        over: list[bytes] = []
        try:
            every = await self._about(policy)
            for digest, _, key in every:
                if search not in shown_key(key) or len(found) >= most:
                    continue
                value = await self._wire.ask("GET", self._name(b"answer|", digest))
                kept = unpacked(value, key) if value is not None else None
                if kept is None:
                    over.append(digest)
                else:
                    kept.hits = int(await self._wire.ask("HGET", self._name(b"hits"), digest) or 0)
                    found.append(listed(kept, shown_key(key), now))
        except WireError as error:
            self._went_away(error)
            return [], 0, 0
        if over:  # their time has come, and Redis let go of them
            self._beside(self._forget(b"", *over))
        gone = set(over)
        there = [size for digest, size, _ in every if digest not in gone]
        return found, len(there), sum(there)

    async def close(self) -> None:
        """Close the connection; what is being written may be lost."""
        for task in list(self._writing):
            task.cancel()
        self._wire.close()
        await asyncio.sleep(0)


def packed(kept: Kept) -> bytes:
    """An answer as bytes: a line of JSON, then the body."""
    lifetime = kept.fresh_until - kept.begun
    head = [
        kept.policy, kept.status, kept.fields.decode("latin-1"), kept.begun, kept.kept_at, lifetime,
        kept.stale_while - kept.fresh_until, kept.stale_on_error - kept.fresh_until, kept.strict,
        kept.key.decode("latin-1"),
    ]  # fmt: skip
    return orjson.dumps(head) + b"\n" + kept.body


def unpacked(value: bytes, key: bytes) -> Kept | None:
    """An answer from its bytes; None where they are none of ours, or of another key."""
    line, _, body = value.partition(b"\n")
    try:
        policy, status, fields, begun, kept_at, lifetime, while_asking, on_error, strict, own = orjson.loads(line)
        if own.encode("latin-1") != key:
            return None
        terms = Terms(lifetime, while_asking, on_error, strict)
        return Kept(policy, key, status, fields.encode("latin-1"), body, terms, begun, kept_at)
    except (ValueError, TypeError, AttributeError):
        return None
