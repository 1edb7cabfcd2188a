"""An answer that is kept: whether it may be, for how long, and whether it may be given again (RFC 9111; RFC 5861).

What can be is decided when an answer is kept, so that giving it again is a comparison of two numbers.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from tamarack.core.caching.control import Directives, date_of, directives, seconds, values_of
from tamarack.core.http.fields import Header

if TYPE_CHECKING:
    from tamarack.core.language_models.near_equal.question import Question

HEURISTIC = frozenset((200, 203, 204, 300, 301, 308))
"""Statuses that a policy's own time holds for. Errors are kept only where the backend itself says for how long."""
_UNDERSTOOD = frozenset((200, 203, 204, 300, 301, 302, 303, 307, 308, 404, 405, 410, 414, 451, 501))
"""Statuses that may be kept at all where the answer says for how long (RFC 9111, 3); a part of an answer is not."""
_OVERHEAD = 650
"""Bytes that an entry takes beside its key, fields and body, as measured."""
_OF_A_304 = frozenset((b"cache-control", b"content-location", b"date", b"etag", b"expires", b"vary", b"last-modified"))
"""Fields that an answer has when it says that nothing changed (RFC 9110, 15.4.5)."""
_NOT_FRESHENED = frozenset((b"content-length", b"content-encoding", b"content-type", b"content-range", b"connection"))
"""Fields of the kept answer that one saying that nothing changed does not set anew (RFC 9111, 3.2)."""


class Rules(NamedTuple):
    """What a policy says beside the answers themselves. Times are seconds."""

    own_time: int = 0
    """For how long an answer is fresh by the policy; 0 for none."""
    whatever: bool = False
    """The own time counts whatever the backend says, else only where it says nothing."""
    stale_while: int = 0
    """For how long one that is over is given while it is asked for anew, where the backend does not say."""
    stale_on_error: int = 0
    """For how long one that is over is given when the backend fails, where it does not say."""
    at_most: int = 1_000_000
    """Bytes of one answer's body."""


class Terms(NamedTuple):
    """For how long an answer may be kept, as its head says. Times are seconds from when it was made."""

    lifetime: float
    stale_while: float
    stale_on_error: float
    strict: bool
    """It is never given once it is over, but by the times above (must-revalidate and the like)."""


class Refusal(NamedTuple):
    """Why an answer is not kept, in a few words for a trace."""

    why: str


def judge(status: int, headers: Sequence[Header], rules: Rules, authorized: bool, now: float) -> Terms | Refusal:
    """Whether an answer to a request that may be kept is kept, and for how long (RFC 9111, 3 and 4.2.1).

    `authorized` says that the request went to the backend with an Authorization field.
    """
    said = directives(values_of(headers, b"cache-control"))
    if status not in _UNDERSTOOD:
        return Refusal(f"answers with status {status} are not kept")
    if any(name == b"set-cookie" for name, _ in headers):
        return Refusal("it sets a cookie")
    if any(b"*" in value for value in values_of(headers, b"vary")):
        return Refusal("it varies by what no cache can see (Vary: *)")
    if authorized and said.keys().isdisjoint((b"public", b"s-maxage", b"must-revalidate")):
        return Refusal("it was asked for with an Authorization field, and does not say that it is for others")
    if rules.whatever and status in HEURISTIC:
        return Terms(rules.own_time, rules.stale_while, rules.stale_on_error, False)
    if b"no-store" in said or b"private" in said:
        return Refusal(f"the backend says {'no-store' if b'no-store' in said else 'private'}")
    lifetime = explicit_lifetime(said, headers, now)
    if lifetime is None:
        if rules.own_time and status in HEURISTIC:
            lifetime = rules.own_time
        elif b"no-cache" not in said:
            return Refusal("the backend says nothing of how long it holds")
    if b"no-cache" in said:
        lifetime = 0
    strict = not said.keys().isdisjoint((b"must-revalidate", b"proxy-revalidate", b"s-maxage", b"no-cache"))
    while_asking = seconds(said, b"stale-while-revalidate")
    on_error = seconds(said, b"stale-if-error")
    terms = Terms(
        lifetime or 0,
        0 if strict else rules.stale_while if while_asking is None else while_asking,
        0 if strict else rules.stale_on_error if on_error is None else on_error,
        strict,
    )
    checkable = any(name in (b"etag", b"last-modified") for name, _ in headers)
    if not terms.lifetime and not checkable and not terms.stale_while and not terms.stale_on_error:
        return Refusal("it is over at once, and has nothing to ask the backend by whether it changed")
    return terms


def explicit_lifetime(said: Directives, headers: Sequence[Header], now: float) -> float | None:
    """For how long an answer says that it is fresh, for a shared cache (RFC 9111, 4.2.1); None where it does not."""
    for name in (b"s-maxage", b"max-age"):
        given = seconds(said, name)
        if given is not None:
            return given
    expires = values_of(headers, b"expires")
    if not expires:
        return None
    ends = date_of(expires[0])
    made = date_of(next(iter(values_of(headers, b"date")), None))
    return max(0.0, ends - (made if made is not None else now)) if ends is not None else 0.0


def initial_age(headers: Sequence[Header], asked_at: float, now: float) -> float:
    """How old an answer is when it comes (RFC 9111, 4.2.3)."""
    made = date_of(next(iter(values_of(headers, b"date")), None))
    said = next(iter(values_of(headers, b"age")), b"")
    corrected = (int(said[:12]) if said.isdigit() else 0) + (now - asked_at)
    return max(0.0, now - made if made is not None else 0.0, corrected)


class Kept:
    """One kept answer. `fields` are ready to send, without a length and without an age."""

    __slots__ = (
        "begun",
        "body",
        "etag",
        "failed_at",
        "fields",
        "fresh_until",
        "hits",
        "kept_at",
        "key",
        "modified",
        "policy",
        "question",
        "size",
        "stale_on_error",
        "stale_while",
        "status",
        "strict",
        "tokens",
        "took_us",
    )

    def __init__(
        self, policy: str, key: bytes, status: int, fields: bytes, body: bytes, terms: Terms, begun: float, now: float
    ) -> None:
        self.policy = policy
        """The id of its policy: the placement, and the name."""
        self.key = key
        self.status = status
        self.fields = fields
        self.body = body
        self.begun = begun
        """When it was made at the origin, by this clock: its age counts from there."""
        self.kept_at = now
        self.fresh_until = begun + terms.lifetime
        self.stale_while = self.fresh_until + terms.stale_while
        self.stale_on_error = self.fresh_until + terms.stale_on_error
        self.strict = terms.strict
        self.failed_at = 0.0
        """When the backend last failed to give a newer one."""
        self.etag = b""
        self.modified = b""
        for name, value in split_fields(fields):
            if name == b"etag":
                self.etag = value
            elif name == b"last-modified":
                self.modified = value
        self.hits = 0
        self.question: Question | None = None
        """What was asked of a language model."""
        self.tokens = 0
        """What its answer took, and how long it took until it was there: saved each time it is given again."""
        self.took_us = 0
        self.size = len(key) + len(fields) + len(body) + _OVERHEAD

    def ends(self) -> float:
        """When nothing may be done with it any more; one that can be asked about is of use for a day longer."""
        last = max(self.fresh_until, self.stale_while, self.stale_on_error)
        return last + 86_400 if self.etag or self.modified else last

    def answers(self, question: Question, tokens: int, took_us: int) -> None:
        """Say what it answers of a language model's, and what it took."""
        self.size += question.size
        self.question, self.tokens, self.took_us = question, tokens, took_us

    def age(self, now: float) -> int:
        """Whole seconds since it was made (RFC 9111, 5.1)."""
        return max(0, int(now - self.begun))

    def conditions(self) -> list[Header]:
        """The fields that ask the backend whether it changed (RFC 9111, 4.3.1)."""
        found = []
        if self.etag:
            found.append((b"if-none-match", self.etag))
        if self.modified:
            found.append((b"if-modified-since", self.modified))
        return found

    def unchanged_for(self, none_match: bytes, modified_since: bytes) -> bool:
        """Whether a caller that has an answer already may go on using it (RFC 9111, 4.3.2; RFC 9110, 13.2.2)."""
        if self.status != 200:
            return False
        if none_match:
            if none_match.strip() == b"*":
                return True
            own = self.etag.removeprefix(b"W/")
            return bool(own) and any(given.strip().removeprefix(b"W/") == own for given in _entity_tags(none_match))
        since = date_of(modified_since) if modified_since else None
        if since is None:
            return False
        changed = date_of(self.modified or None)
        return changed is not None and changed <= since

    def brief_fields(self) -> bytes:
        """The fields of an answer that says that nothing changed."""
        found = [(name, value) for name, value in split_fields(self.fields) if name in _OF_A_304]
        return b"".join(b"%b: %b\r\n" % field for field in found)

    def freshened(self, headers: Sequence[Header], terms: Terms, begun: float, now: float) -> Kept:
        """This answer with the fields of one that says that nothing changed (RFC 9111, 4.3.4)."""
        newer = [field for field in headers if field[0] not in _NOT_FRESHENED]
        names = {name for name, _ in newer}
        older = [field for field in split_fields(self.fields) if field[0] not in names]
        fields = b"".join(b"%b: %b\r\n" % field for field in [*older, *newer])
        made = Kept(self.policy, self.key, self.status, fields, self.body, terms, begun, now)
        made.hits = self.hits
        if self.question is not None:
            made.answers(self.question, self.tokens, self.took_us)
        return made


def split_fields(fields: bytes) -> list[Header]:
    """Ready fields as names and values."""
    found = []
    for line in fields.split(b"\r\n"):
        if line:
            name, _, value = line.partition(b": ")
            found.append((name, value))
    return found


def _entity_tags(value: bytes) -> list[bytes]:
    """The tags of a list; a comma within quotes is part of its tag (RFC 9110, 8.8.3)."""
    found, start, inside = [], 0, False
    for place, letter in enumerate(value):
        if letter == 0x22:
            inside = not inside
        elif letter == 0x2C and not inside:
            found.append(value[start:place])
            start = place + 1
    return [*found, value[start:]]
