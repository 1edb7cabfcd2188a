"""The feed followed over HTTP, by a node that has no database. Requests wait on threads of their own, so that neither
they nor a large rollout hold up calls.
"""

from __future__ import annotations

import asyncio
import gzip
import ssl
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import Any, TypeVar
from urllib.parse import urlencode

import orjson
import urllib3

from tamarack.core.identity.credentials import digest
from tamarack.core.nodes.feed import News, Report, read_news
from tamarack.core.text import one_line
from tamarack.gateway.feed.contract import FeedAway, FeedEnded

CONNECT_S = 3.0
ANSWER_S = 10.0
BATCH_S = 60.0
MOST_BYTES = 256_000_000
"""Of one answer: a rollout with large schemas is by far the largest."""

T = TypeVar("T")


class BatchNotTaken(Exception):
    """The control side will not take this batch, however often it comes."""


def checked_by(ca: str) -> ssl.SSLContext:
    """How the control side proves who it is: by the authorities in a PEM text, or those of this machine."""
    context = ssl.create_default_context(cadata=ca or None)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    return context


class HttpFeed:
    """A `gateway.feed.contract.Feed` over HTTP.

    `keep_credential` is told a new credential before it is used; without it none is taken. `read_credential` reads what
    another process of the node has kept.
    """

    called = "the control side"
    look_within_s = 2.0

    def __init__(
        self,
        address: str,
        credential: str,
        pepper: bytes,
        ca: str = "",
        keep_credential: Callable[[str], None] | None = None,
        read_credential: Callable[[], str] | None = None,
    ) -> None:
        self._address = address.rstrip("/")
        self._credential = credential
        self._pepper = pepper
        self._ca = ca
        self._keep_credential, self._read_credential = keep_credential, read_credential
        self._threads = ThreadPoolExecutor(4, thread_name_prefix="feed")
        self._pool = self._make_pool()

    def _make_pool(self) -> urllib3.PoolManager:
        context = checked_by(self._ca) if self._address.startswith("https:") else None
        return urllib3.PoolManager(num_pools=1, maxsize=4, retries=False, ssl_context=context)

    async def begin(self) -> None:
        """See `Feed.begin`."""
        self._pool.clear()
        if self._read_credential is not None:
            with suppress(OSError, ValueError, KeyError):
                self._credential = self._read_credential()

    async def look(self, after: int, above: int, standing: str, wait_s: float) -> News:
        """See `Feed.look`."""
        wait_s = min(wait_s, self.look_within_s)
        asked = urlencode({"after": after, "above": above, "standing": standing, "wait": wait_s})
        news: News = await self._asked("GET", f"/feed?{asked}", None, read_news, wait_s + ANSWER_S)
        if news.new_credential and self._keep_credential is not None:
            await self._take_new_credential(self._keep_credential)
        return news

    async def report(self, report: Report) -> float:
        """See `Feed.report`."""
        return await self._asked("POST", "/feed/report", report.model_dump(), lambda said: float(said["now"]))

    async def ask_for_key_set(self, url: str) -> None:
        """See `Feed.ask_for_key_set`."""
        await self._asked("POST", "/feed/key-sets", {"url": url}, _nothing)

    async def find_tokens(self, tokens: Sequence[bytes]) -> Mapping[bytes, dict[str, Any]]:
        """See `Feed.find_tokens`. Tokens stay here: their digests are looked up."""
        by_digest = {digest(token, self._pepper, "sign-in"): token for token in tokens}
        found = await self._asked("POST", "/feed/tokens", {"digests": list(by_digest)}, dict)
        return {by_digest[one]: claims for one, claims in found.items() if one in by_digest}

    async def hand_in(self, name: str, content: bytes) -> None:
        """Hand a batch in; when this returns, it is on disk there. Raises `BatchNotTaken` where it never will be."""
        packed = await asyncio.get_running_loop().run_in_executor(self._threads, gzip.compress, content, 5)
        fields = {"Content-Type": "application/json", "Content-Encoding": "gzip"}
        await self._asked("PUT", f"/feed/batches/{name}", packed, _nothing, BATCH_S, fields)

    async def _take_new_credential(self, keep: Callable[[str], None]) -> None:
        fresh = await self._asked("POST", "/feed/credential", None, lambda said: str(said["credential"]))
        keep(fresh)  # first: one that is used and not kept would lock the node out
        self._credential = fresh

    async def close(self) -> None:
        """See `Feed.close`."""
        self._pool.clear()
        self._threads.shutdown(wait=False, cancel_futures=True)

    async def _asked(
        self,
        method: str,
        path: str,
        body: Any,
        read: Callable[[Any], T],
        within_s: float = ANSWER_S,
        fields: Mapping[str, str] | None = None,
    ) -> T:
        try:
            return await asyncio.get_running_loop().run_in_executor(
                self._threads, self._ask, method, path, body, read, within_s, fields
            )
        except RuntimeError as error:  # the threads were shut down: the node ends
            raise FeedAway(str(error)) from error

    def _ask(
        self,
        method: str,
        path: str,
        body: Any,
        read: Callable[[Any], T],
        within_s: float,
        fields: Mapping[str, str] | None,
    ) -> T:
        sent = body if isinstance(body, bytes) or body is None else orjson.dumps(body)
        named = {"Content-Type": "application/json", **(fields or {}), "Authorization": f"Bearer {self._credential}"}
        try:
            answer = self._pool.request(
                method, self._address + path, body=sent, headers=named, redirect=False, preload_content=False,
                timeout=urllib3.Timeout(connect=CONNECT_S, read=within_s),
            )  # fmt: skip
            try:
                content = answer.read(MOST_BYTES)
            finally:
                answer.release_conn()
        except (urllib3.exceptions.HTTPError, OSError) as error:
            raise FeedAway(said_of(error)) from error
        if answer.status >= 300:
            _refused(answer.status, content)
        try:
            return read(orjson.loads(content) if content else None)
        except (ValueError, KeyError, TypeError) as error:
            raise FeedAway(f"it answered {method} {path.partition('?')[0]} with something else: {error}") from error


def _refused(status: int, content: bytes) -> None:
    try:
        told = orjson.loads(content)
        detail, reason = one_line(str(told.get("detail") or ""))[:300], told.get("reason")
    except (ValueError, AttributeError):
        detail, reason = "", None
    if reason == "revoked":
        raise FeedEnded(detail)
    if status in (413, 422):
        raise BatchNotTaken(detail or f"it answered {status}")
    raise FeedAway(f"it answered {status}{': ' if detail else ''}{detail}")


def _nothing(said: Any) -> None:
    return None


def said_of(error: Exception) -> str:
    """What went wrong with a connection, in a line: the innermost reason says most."""
    reason = getattr(error, "reason", None)
    while isinstance(reason, Exception):
        error, reason = reason, getattr(reason, "reason", None)
    words = one_line(str(error.args[-1] if error.args else "") or type(error).__name__)
    return words.rpartition("object at ")[2].partition(">: ")[2] or words
