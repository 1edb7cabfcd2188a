"""The response cache on a call's way: the key, what is found under it, and what becomes of the backend's answer.

One `Caching` stands in an operation's program, in the stage Answer. It decides everything; where answers are kept, and
who waits for whom, is the business of who answers the needs `Look` and `Refresh` (`core.carrying.needs`).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from email.utils import formatdate
from hashlib import blake2b
from typing import Literal, Protocol

from tamarack.core.caching.control import NO_DIRECTIVES, Directives, directives, listed_value, seconds, values_of
from tamarack.core.caching.kept import Kept, Refusal, Rules, initial_age, judge, split_fields
from tamarack.core.caching.memory import MemoryCache, shown_key
from tamarack.core.carrying.call import Call, Watching
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import REASONS
from tamarack.core.carrying.refusals import Refusal as CallRefusal
from tamarack.core.errors import CoreError
from tamarack.core.http.fields import NOT_SENT_BACK, Header, looks_secret
from tamarack.core.http.heads import Answered
from tamarack.core.http.query import by_name, name_of
from tamarack.core.language_models.near_equal.kept_answers import NearPrompts, about, told_as_kept
from tamarack.core.language_models.near_equal.question import Question
from tamarack.core.traffic.record import HIT, MISS, REVALIDATED, STALE

_TAKEN_AWAY = frozenset((b"if-none-match", b"if-modified-since"))
"""Conditions of the caller's: asked of what is kept, when the backend was asked whether that is still so."""
_BYPASSED_BY = frozenset((b"range", b"if-range", b"if-match", b"if-unmodified-since"))
_NOT_KEPT = frozenset((b"content-length", b"age"))
_UNSAFE = frozenset(("POST", "PUT", "PATCH", "DELETE"))
_ERRORS = frozenset((500, 502, 503, 504))
"""Answers in place of which one that is over may be given (RFC 5861, 4)."""
FAILING_S = 1.0
"""For how long a failure of the backend holds for all who ask for the same: it is asked once meanwhile."""
MOST_VARIES = 12
"""Fields that the answers of one operation may vary by."""
_AGE = b"%bage: %d\r\ncache-status: tamarack; %b\r\n"

Said = Literal["hit", "stale", "revalidate", "miss"]
PartOfKey = Callable[[Call], bytes]
"""A part of a key; empty for none. Raises `Bypass`."""
_LOOKS_SECRET = re.compile(rb"key|token|secret|passw|auth|session|signature|credential", re.IGNORECASE)


_NONE_KEPT = CallRefusal(REASONS["not-kept"], ((b"cache-status", b"tamarack; fwd=request; detail=only-if-cached"),))


class Bypass(CoreError):
    """A call that the cache has nothing to do with, and why."""


class CacheStore(Protocol):
    """Where answers are kept."""

    def keep(self, lookup: Lookup, kept: Kept) -> None:
        """Keep an answer, and give it to who waits for it."""
        ...

    def release(self, lookup: Lookup) -> None:
        """There will be no answer for who waits: each asks the backend itself."""
        ...

    def stand_in(self, lookup: Lookup, kept: Kept) -> None:
        """What is kept stands in for an answer that failed: also for who waits for it."""
        ...

    def drop(self, lookup: Lookup) -> None:
        """What is kept under the key holds no more."""
        ...

    def invalidate(self, path: bytes, shared: bool) -> None:
        """Something was changed at a path."""
        ...


class Lookup:
    """One call's business with the cache."""

    __slots__ = (
        "alike",
        "apart",
        "authorized",
        "cache",
        "keeps",
        "kept",
        "key",
        "leads",
        "none_match",
        "question",
        "since",
        "waited",
        "wants",
    )

    def __init__(self, cache: Caching, key: bytes, call: Call, question: Question | None = None) -> None:
        self.cache = cache
        self.key = key
        self.question = question
        """What it asks of a language model, where its answer may be given to another that asks the same."""
        self.alike = 0.0
        """How near the question is that what is kept answers, where it was found by its meaning."""
        self.apart = question is not None and call.prompt.streams
        """Whether it neither waits for another's answer nor has others wait: it comes piece by piece."""
        self.kept: Kept | None = None
        self.keeps = call.method != "HEAD"
        """Whether its answer may be kept."""
        self.leads = False
        """Whether others wait for its answer. Set by the driver."""
        self.waited = False
        """Whether it waited for another's."""
        self.wants: Directives = NO_DIRECTIVES
        self.none_match = self.since = b""
        self.authorized = False
        for name, value in call.headers:
            if name == b"cache-control":
                if cache.heeds:
                    self.wants = directives(values_of(call.headers, name))
            elif name == b"if-none-match":
                self.none_match = value
            elif name == b"if-modified-since":
                self.since = value
            elif name == b"authorization":
                self.authorized = not (cache.rules.whatever and name in cache.headers)
        if b"no-store" in self.wants:
            self.keeps = False

    @property
    def alone(self) -> bool:
        """Whether it waits for nobody, and nobody for it: its answer will not do for others."""
        return not self.keeps or self.apart or (self.kept is None and bool(self.none_match or self.since))

    def says(self, kept: Kept | None, now: float) -> Said:
        """What may be done with what is kept: give it, give it though it is over while it is asked for anew, ask
        whether it changed, or nothing (RFC 9111, 4 and 5.2.1; RFC 5861, 3)."""
        if kept is None:
            return "miss"
        wants = self.wants
        if not wants:
            if now < kept.fresh_until:
                return "hit"
            failing = now - kept.failed_at < FAILING_S and now < kept.stale_on_error
            return "stale" if failing or now < kept.stale_while else "revalidate"
        if b"no-cache" in wants:
            return "revalidate"
        oldest, freshest = seconds(wants, b"max-age"), seconds(wants, b"min-fresh")
        if oldest is not None and kept.age(now) > oldest:
            return "revalidate"
        if kept.fresh_until > now + (freshest or 0):
            return "hit"
        if freshest:
            return "revalidate"
        over = seconds(wants, b"max-stale") if wants.get(b"max-stale", b"") is not None else 2**31
        if over is not None and not kept.strict and now <= kept.fresh_until + over:
            return "hit"
        return "stale" if now < kept.stale_while and oldest is None else "revalidate"


class Caching:
    """The response cache of one operation."""

    def __init__(
        self,
        policy: str,
        space: bytes,
        rules: Rules,
        store: CacheStore | None,
        parts: Sequence[PartOfKey],
        headers: Sequence[bytes],
        query: Callable[[bytes], bytes],
        posts: bool = False,
        heeds: bool = True,
        shared: bool = False,
        wait_s: float = 2.0,
        near: NearPrompts | None = None,
    ) -> None:
        self.policy = policy
        """Its id: the placement, and the name."""
        self.space = space
        self.rules = rules
        self.store = store
        self.parts = tuple(parts)
        """What the key has besides the address and fields: the caller, values of the body."""
        self.headers = tuple(headers)
        self.varies: tuple[bytes, ...] = ()
        """Fields that answers turned out to vary by (RFC 9111, 4.1); learned as answers come."""
        self.query = query
        self.posts = posts
        """Whether a POST is a search that may be kept."""
        self.heeds = heeds
        """Whether what callers ask of caches counts."""
        self.shared = shared
        """Whether all nodes share what is kept."""
        self.wait_s = wait_s
        self.near = near
        """How prompts are compared, where it keeps answers of language models."""

    # a call comes

    def lookup(self, call: Call) -> Lookup | None:
        """The call's business with the cache; None where it has none, which is noted for its trace."""
        call.cache = ""
        method = call.method
        if call.graph is not None:
            if not call.graph.reads_only:
                call.note_of_cache = "it holds a mutation or a subscription, so it is not kept"
                return None
        elif method != "GET" and method != "HEAD" and not (method == "POST" and self.posts):
            call.note_of_cache = f"{method} is not kept" + ("; it makes what is kept of its path invalid"
                                                            if method in _UNSAFE else "")  # fmt: skip
            return None
        for name, _ in call.headers:
            if name in _BYPASSED_BY:
                call.note_of_cache = f"a call with {name.decode()} goes to the backend"
                return None
            if name == b"cookie" and name not in self.headers:
                call.note_of_cache = "a call with a cookie goes to the backend, for its key does not hold cookies"
                return None
        question = None
        try:
            key = self.key(call)
        except Bypass as why:
            call.note_of_cache = str(why)
            return None
        if self.near is not None:
            found = self.near.question(call, key)
            if isinstance(found, str):
                call.note_of_cache = found
                return None
            question = found
            key += b"\n" + about(question)
        call.lookup = lookup = Lookup(self, key, call, question)
        return lookup

    def nearest(self, lookup: Lookup, memory: MemoryCache, now: float) -> Kept | None:
        """What is kept for another question that means the same; None where nothing is, or the caller wants no answer
        that was given before."""
        near, question = self.near, lookup.question
        if near is None or question is None or lookup.wants:
            return None
        found = near.nearest(memory, question, self.policy, now)
        if found is None:
            return None
        lookup.alike = found[1]
        return found[0]

    def key(self, call: Call, varies: Sequence[bytes] | None = None, question: Question | None = None) -> bytes:
        """The key of a call: what has to be alike for an answer to be given again. Raises `Bypass`."""
        method = b"POST" if call.method == "POST" else b"GET"
        query = self.query(call.query) if call.query else b""
        if query and _LOOKS_SECRET.search(query) is not None:
            query = _without_credentials(query)
        key = b"%b%b %b://%b%b%b%b" % (
            self.space, method, call.scheme.encode(), call.host.lower(), call.path, b"?" if query else b"", query,
        )  # fmt: skip
        for name in (*self.headers, *(self.varies if varies is None else varies)):
            value = listed_value(call.headers, name)
            key += b"\n%b: %b" % (name, value if not looks_secret(name.decode()) else digested(value))
        for part in self.parts:
            found = part(call)
            if found:
                key += b"\n" + found
        if question is not None:
            key += b"\n" + about(question)
        if call.graph is not None:
            key += b"\ndocument: " + call.graph.digest
        return key

    def found(self, call: Call, lookup: Lookup, kept: Kept | None) -> Reply | CallRefusal | Said:
        """What becomes of a call with what is kept under its key: a reply, a refusal, or how the backend is asked."""
        if (
            kept is not None
            and kept.key != lookup.key
            and not lookup.alike
            and kept.key != self.key(call, question=lookup.question)
        ):
            kept = None  # it was waited for, and turned out to be for other fields than this call's
        lookup.kept = kept
        says = lookup.says(kept, call.now)
        if says == "hit" or says == "stale":
            assert kept is not None
            kept.hits += 1
            over = now_over(kept, call)
            call.cache = STALE if over else HIT
            status = b"hit; ttl=%d" % int(kept.fresh_until - call.now)
            if lookup.question is not None:
                status += told_as_kept(call, lookup.question, kept, lookup.alike)
            return self._reply(call, lookup, kept, status)
        if b"only-if-cached" in lookup.wants:
            call.cache = MISS
            return _NONE_KEPT
        call.cache = MISS
        return says

    def _reply(self, call: Call, lookup: Lookup, kept: Kept, status: bytes) -> Reply:
        if (lookup.none_match or lookup.since) and kept.unchanged_for(lookup.none_match, lookup.since):
            fields = _AGE % (kept.brief_fields(), kept.age(call.now), status)
            return Reply(304, fields, b"", True)
        return Reply(kept.status, _AGE % (kept.fields, kept.age(call.now), status), kept.body, True)

    def asking(self, call: Call, lookup: Lookup) -> None:
        """Prepare the request to the backend: where something is kept, it asks whether that changed."""
        kept = lookup.kept
        if kept is not None and lookup.keeps:
            conditions = kept.conditions()
            if conditions:
                call.headers = [*(field for field in call.headers if field[0] not in _TAKEN_AWAY), *conditions]

    # the backend's answer comes

    def failed(self, call: Call, lookup: Lookup) -> Reply | None:
        """The backend gave no answer: what is kept may stand in."""
        kept = lookup.kept
        if kept is None or kept.strict:
            return None
        until = kept.stale_on_error
        asked = seconds(lookup.wants, b"stale-if-error")
        if asked is not None:
            until = max(until, kept.fresh_until + asked)
        if call.now >= until:
            return None
        kept.hits += 1
        kept.failed_at = call.now
        call.cache = STALE
        if self.store is not None:
            self.store.stand_in(lookup, kept)
        return self._reply(call, lookup, kept, b"hit; ttl=%d; detail=stale-if-error" % int(kept.fresh_until - call.now))

    def answered(self, call: Call, lookup: Lookup, answer: Answered, asked_at: float, now: float) -> Reply | None:
        """The head of the backend's answer is here: a reply in its place, or None, for it passes on.

        `asked_at` and `now` are seconds since the epoch. Where the answer is kept, `keeping` says how.
        """
        kept = lookup.kept
        if answer.status in _ERRORS:
            return self.failed(call, lookup)
        if answer.status != 304 or kept is None or not lookup.keeps:
            return None
        fresh = self.freshened(lookup, answer.headers, asked_at, now)
        call.cache = REVALIDATED
        status = b"fwd=stale; fwd-status=304; ttl=%d" % int((fresh or kept).fresh_until - now)
        return self._reply(call, lookup, fresh or kept, status)

    def freshened(self, lookup: Lookup, headers: list[Header], asked_at: float, now: float) -> Kept | None:
        """What is kept did not change: it holds on (RFC 9111, 4.3.4). None where it is kept no more."""
        kept = lookup.kept
        assert kept is not None
        fields = [field for field in headers if field[0] not in _NOT_KEPT and field[0] not in NOT_SENT_BACK]
        together = dict(split_fields(kept.fields)) | dict(fields)
        terms = judge(kept.status, list(together.items()), self.rules, lookup.authorized, now)
        if isinstance(terms, Refusal):
            if self.store is not None:
                self.store.drop(lookup)
            return None
        fresh = kept.freshened(fields, terms, now - initial_age(headers, asked_at, now), now)
        if self.store is not None:
            self.store.keep(lookup, fresh)
        return fresh

    def keeping(
        self, call: Call, lookup: Lookup, status: int, headers: list[Header], fields: bytes, asked_at: float, now: float
    ) -> Watching | None:
        """What keeps an answer as it passes; None where it is not kept, and then nobody waits for it any more.

        `headers` are the backend's, `fields` those that go to callers.
        """
        refused = self.refused(call, lookup, status)
        terms = judge(status, headers, self.rules, lookup.authorized, now) if not refused else Refusal(refused)
        names = self._varies(headers)
        if not isinstance(terms, Refusal) and names is None:
            terms = Refusal("it varies by too many fields")
        if isinstance(terms, Refusal):
            call.note_of_cache = f"not kept: {terms.why}"
            if self.store is not None:
                if lookup.kept is not None and lookup.keeps and status < 500:
                    self.store.drop(lookup)
                self.store.release(lookup)
            return None
        assert names is not None
        if set(names) - set(self.varies):
            self.varies = names
        call.note_of_cache = f"kept, fresh for {max(0, int(terms.lifetime))} s"
        ready = b"".join(
            line + b"\r\n"
            for line in fields.split(b"\r\n")
            if line and not line.startswith((b"content-length:", b"age:"))
        )
        if b"date: " not in ready[:6] and b"\r\ndate: " not in ready:  # RFC 9110, 6.6.1
            ready += b"date: %b\r\n" % formatdate(int(now), usegmt=True).encode()
        key = self.key_kept(call, lookup, names)
        begun = now - initial_age(headers, asked_at, now)

        def made(body: bytes) -> Kept:
            kept = Kept(self.policy, key, status, ready, body, terms, begun, now)
            if lookup.question is not None:
                took_us = max(call.total_us, call.backend_us)
                kept.answers(lookup.question, call.prompt_tokens + call.completion_tokens, took_us)
            return kept

        return Keeping(self, lookup, made)

    def refreshed(
        self, call: Call, lookup: Lookup, answer: Answered, fields: bytes, body: bytes, asked_at: float, now: float
    ) -> None:
        """The backend was asked anew, beside the call; `fields` of its answer are those that go to callers."""
        if answer.status == 304 and lookup.kept is not None:
            self.freshened(lookup, answer.headers, asked_at, now)
            return
        keeping = self.keeping(call, lookup, answer.status, answer.headers, fields, asked_at, now)
        if keeping is not None:
            keeping.piece(body)
            keeping.end(True)

    def refused(self, call: Call, lookup: Lookup, status: int) -> str:
        """Why the answer to a call is not kept, by its request; empty where it may be."""
        if call.method == "HEAD":
            return "an answer to HEAD has no body"
        if not lookup.keeps:
            return "the caller says no-store"
        return ""

    def key_kept(self, call: Call, lookup: Lookup, names: Sequence[bytes]) -> bytes:
        """The key under which an answer is kept: with the fields that it varies by."""
        added = [name for name in names if b"\n%b: " % name not in lookup.key]
        if not added:
            return lookup.key
        return self.key(call, names, lookup.question)

    def _varies(self, headers: Sequence[Header]) -> tuple[bytes, ...] | None:
        """The fields that answers vary by, this one's with them; None where they are too many."""
        values = values_of(headers, b"vary")
        if not values:
            return self.varies
        named = {name.strip().lower() for value in values for name in value.split(b",")} - {b""}
        names = tuple(sorted((named | set(self.varies)) - set(self.headers)))
        return names if len(names) <= MOST_VARIES else None

    def passed(self, call: Call, lookup: Lookup | None, status: int, kept: bool) -> bytes:
        """The Cache-Status of an answer that the backend gave (RFC 9211), as a field."""
        if lookup is None:
            searches = (self.posts or call.graph is not None) and call.method == "POST"
            by_method = call.method in _UNSAFE and not searches
            return b"cache-status: tamarack; fwd=%b\r\n" % (b"method" if by_method else b"bypass")
        why = b"stale" if lookup.kept is not None else b"uri-miss"
        stored = b"; stored" if kept else b""
        return b"cache-status: tamarack; fwd=%b; fwd-status=%d%b\r\n" % (why, status, stored)

    def changed(self, call: Call, status: int) -> None:
        """A call that changes things was answered: what is kept of its path holds no more (RFC 9111, 4.4)."""
        searches = call.method == "POST" and (self.posts or (call.graph is not None and call.graph.reads_only))
        if self.store is not None and call.method in _UNSAFE and status < 400 and not searches:
            self.store.invalidate(call.path, self.shared)


def now_over(kept: Kept, call: Call) -> bool:
    """Whether an answer that is given is over."""
    return call.now >= kept.fresh_until


class Keeping:
    """A `core.carrying.call.Watching` that keeps an answer when it has passed whole."""

    __slots__ = ("_cache", "_lookup", "_made", "_pieces", "_size")

    def __init__(self, cache: Caching, lookup: Lookup, made: Callable[[bytes], Kept]) -> None:
        self._cache = cache
        self._lookup = lookup
        self._made = made
        self._pieces: list[bytes] = []
        self._size = 0

    def piece(self, data: bytes) -> None:
        """See `Watching.piece`."""
        self._size += len(data)
        if self._size <= self._cache.rules.at_most:
            self._pieces.append(data)
        elif self._pieces:
            self._pieces.clear()
            self._release()

    def end(self, complete: bool) -> None:
        """See `Watching.end`."""
        store = self._cache.store
        if not complete or self._size > self._cache.rules.at_most:
            self._release()
        elif store is not None:
            store.keep(self._lookup, self._made(b"".join(self._pieces)))

    def _release(self) -> None:
        if self._cache.store is not None:
            self._cache.store.release(self._lookup)


def digested(value: bytes) -> bytes:
    """A value that may be a credential, as a key holds it: keys are shown to people."""
    return b"#" + blake2b(value, digest_size=12).hexdigest().encode() if value else b""


def _without_credentials(query: bytes) -> bytes:
    """A query whose parameters that look like credentials stand with digests of their values."""
    pairs = []
    for part in query.split(b"&"):
        name, separator, value = part.partition(b"=")
        secret = separator and looks_secret(name_of(part).decode("latin-1"))
        pairs.append(b"%b=%b" % (name, digested(value)) if secret else part)
    return b"&".join(pairs)


def query_key(chosen: Literal["all", "none"] | Sequence[str]) -> Callable[[bytes], bytes]:
    """What of a query string the key holds: pairs in the order of their names, for their order does not matter.

    Pairs of one name keep their order, which may mean something.
    """
    if chosen == "none":
        return lambda query: b""
    if chosen == "all":
        return lambda query: query if b"&" not in query else by_name(query.split(b"&"))
    names = frozenset(name.encode() for name in chosen)
    return lambda query: by_name(part for part in query.split(b"&") if name_of(part) in names)


def told_of(lookup: Lookup | None, call: Call) -> str:
    """A call's business with the cache in words, for its trace."""
    if lookup is None:
        return call.note_of_cache
    words = {HIT: "hit", STALE: "given though it is over", REVALIDATED: "still good, says the backend", MISS: "miss"}
    said = words.get(call.cache, call.cache)
    note = f"; {call.note_of_cache}" if call.note_of_cache else ""
    return f"{said}{note}; key {shown_key(lookup.key)}"
