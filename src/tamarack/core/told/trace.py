"""Traces: a call run through the same steps, with what each looked at, changed and decided, and how long it took.

Credentials are shown masked: their length only.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, fields
from typing import Any, NamedTuple

from tamarack.core.balancing.route import Choice
from tamarack.core.carrying.caching import Lookup, told_of
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.needs import Failed
from tamarack.core.carrying.parts import Limit, Reply, Retrying
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.carrying.steps import NamedStep, Told
from tamarack.core.http.fields import ALWAYS_SECRET, Header, looks_secret
from tamarack.core.http.heads import Answered
from tamarack.core.http.query import name_of
from tamarack.core.identity.caller import Caller
from tamarack.core.limits.store import Limiter
from tamarack.core.stages import Stage
from tamarack.core.traffic.record import MISS, PLACE

LONGEST_VALUE = 300
LONGEST_BODY = 2_000
"""Bytes of a body that a trace shows, before and after a change."""
MOST_HEADERS = 60

Pairs = list[tuple[str, str]]


@dataclass(slots=True)
class Entry:
    """What one policy, or one built-in part of a stage, did with a call.

    `verdict` is `passed`, `refused`, `identified`, `not shown`, `not reached`, `again` or `done`. Times are
    microseconds.
    """

    stage: str
    title: str
    verdict: str
    policy: str = ""
    placement: str = ""
    text: str = ""
    reads: Pairs = field(default_factory=list)
    changes: Pairs = field(default_factory=list)
    us: float = 0.0


@dataclass(frozen=True, slots=True)
class Vouched:
    """An application that the bench, or a page, lets a call be made as, without its credential."""

    application: Caller
    claims: dict[str, Any] | None = None
    by: str = ""


def is_secret(name: str, secret: frozenset[str] = frozenset()) -> bool:
    """Whether a field or parameter is taken to carry a credential; `secret` are names known to."""
    plain = name.lower().lstrip("?")
    return plain in ALWAYS_SECRET or plain in secret or name.lstrip("?") in secret


def mask(name: str, value: str, secret: frozenset[str]) -> str:
    """A value as a trace shows it."""
    if is_secret(name, secret):
        return f"•••• ({len(value)} characters)"
    return value if len(value) <= LONGEST_VALUE else value[: LONGEST_VALUE - 1] + "…"


def shown_headers(headers: list[Header], secret: frozenset[str]) -> Pairs:
    """Header fields as a trace shows them."""
    decoded = [(name.decode("latin-1"), value.decode("latin-1")) for name, value in headers[:MOST_HEADERS]]
    guessed = frozenset(name for name, _ in decoded if looks_secret(name))
    return [(name, mask(name, value, secret | guessed)) for name, value in decoded]


class _Was(NamedTuple):
    """What a step may change of a request, as it was before."""

    headers: list[Header]
    query: bytes
    body: bytes | None
    asks: tuple[str, bytes | None]
    misfits: int


def _changes(call: Call, was: _Was, secret: frozenset[str], identifies: bool) -> Pairs:
    found = _field_changes(was.headers, call.headers, secret)
    if call.query != was.query:
        before, after = was.query.split(b"&"), call.query.split(b"&")
        gone = [name_of(part).decode("latin-1") for part in before if part not in after]
        found += [(f"removed ?{name}", "•••• from the query") for name in gone]
        for part in after:
            if part and part not in before:
                name, value = name_of(part).decode("latin-1"), part.partition(b"=")[2].decode("latin-1")
                found.append((f"added ?{name}", mask(name, value, secret)))
    asks = (call.asks_method, call.asks_path)
    if asks != was.asks:
        path = "the call's path" if call.asks_path is None else call.asks_path.decode("latin-1") or "/"
        found.append(("asks the backend for", f"{call.asks_method or call.method} {path}"))
    found += _misfits(call, was.misfits)
    if call.body != was.body:
        if identifies:
            found.append(("changed the body", "took the credential out of the form"))
        else:
            found += body_change(was.body, call.body)
    return found


def _misfits(call: Call, before: int) -> Pairs:
    """What was found not to fit the description since there were so many."""
    return [("misfit", str(one)) for one in call.misfits[before:]]


def _field_changes(before: list[Header], after: list[Header], secret: frozenset[str]) -> Pairs:
    found: Pairs = []
    if after is not before:
        kept = list(after)
        for name, value in before:
            if (name, value) in kept:
                kept.remove((name, value))
            else:
                shown = name.decode("latin-1")
                found.append((f"removed {shown}", mask(shown, value.decode("latin-1"), secret)))
        for name, value in kept:
            shown = name.decode("latin-1")
            found.append((f"added {shown}", mask(shown, value.decode("latin-1"), secret)))
    return found


_SECRET_VALUE = re.compile(
    r"((?:\"|<|&|^)[\w.-]*(?:key|token|secret|passw|auth|signature|credential)[\w.-]*(?:\"\s*:\s*\"|>|=))([^\"<&]+)",
    re.IGNORECASE,
)
"""A value, in JSON, XML or a form, whose name looks as if it were secret."""


def body_change(before: bytes | None, after: bytes | None) -> Pairs:
    """A body before and after, its beginning; values whose names look secret are masked."""
    return [(f"body {words}", _shown_body(body)) for words, body in (("before", before), ("after", after))]


def _shown_body(body: bytes | None) -> str:
    text = (body or b"")[:LONGEST_BODY].decode("utf-8", "replace")
    shown = _SECRET_VALUE.sub(lambda found: f"{found[1]}••••", text)
    return shown + ("…" if len(body or b"") > LONGEST_BODY else "")


class Trace:
    """What is told of one call while its program runs. The steps of a traced lane tell it what they do.

    `clock_ns` is a clock in nanoseconds. With `vouched`, the call needs no credential: the step that would identify
    its caller takes the application given; everything after it decides as ever.
    """

    def __init__(self, clock_ns: Callable[[], int], vouched: Vouched | None = None) -> None:
        self.clock_ns = clock_ns
        self.vouched = vouched
        self.attempts = 0
        self._cached: Entry | None = None
        self.entries: list[Entry] = []
        self.said: Pairs = []
        """What a step tells of itself while it runs; it stands first among what it did."""
        self._done: list[object] = []
        """The steps that were run, and the answerers that were asked."""

    def begin_again(self) -> None:
        """The steps are run once more: keys that were missing are there."""
        self.entries = []
        self._done = []

    def step(self, named: NamedStep, call: Call) -> Refusal | None:
        """Run a step, and note what it looked at, changed and decided."""
        assert named.step is not None and call.operation is not None
        self._done.append(named)
        if named.stage is Stage.IDENTIFY and self.vouched is not None and named.told[0].name:
            self.entries.append(_vouch(call, self.vouched))
            return None
        secret = call.operation.secret
        read = [[(name, mask(name, value, secret)) for name, value in _reads(told, call)] for told in named.told]
        was = _Was(call.headers, call.query, call.body, (call.asks_method, call.asks_path), len(call.misfits))
        started = self.clock_ns()
        refusal = named.step(call)
        ended = self.clock_ns()
        if named.stage in PLACE:
            call.ended_at[1 + PLACE[named.stage]] = ended
        changes = self._said() + _changes(call, was, secret, named.stage is Stage.IDENTIFY)
        self.entries += _entries(named, call, refusal, read, changes, (ended - started) / 1000)
        return refusal

    def _said(self) -> Pairs:
        said, self.said = self.said, []
        return said

    def metered(self, call: Call, steps: Sequence[NamedStep], refusal: Refusal | None, us: float) -> None:
        """Note what the limits said; `steps` are the operation's."""
        named = next((one for one in steps if one.stage is Stage.METER), None)
        if named is None:
            return
        self._done.append(named)
        found = _meter_entries(named, call, refusal, [_reads(told, call) for told in named.told], us)
        if refusal is not None and call.taken is None:  # nothing was counted
            for entry in found:
                if entry.policy == refusal.policy:
                    entry.verdict, entry.text = "refused", refusal.note
        self.entries += found

    def replied(self, told: Told, reply: object) -> None:
        """Note whether an answerer answered."""
        verdict = "passed" if reply is None else "refused" if isinstance(reply, Refusal) else "done"
        text = f"answered {reply.status}" if isinstance(reply, Reply) else ""
        self.entries.append(Entry(Stage.ANSWER.value, told.title, verdict, told.name, told.placement, text))
        self._done.append(told)

    def looked_up(self, told: Told | None, call: Call, lookup: Lookup | None) -> None:
        """Note what the response cache had to do with the call; said again when the answer is known to be kept."""
        assert told is not None
        self._done.append(told)
        verdict = "done" if call.cache and call.cache != MISS else "passed"
        entry = Entry(Stage.ANSWER.value, told.title, verdict, told.name, told.placement, told_of(lookup, call))
        if self._cached is not None:
            self.entries.remove(self._cached)
        self._cached = entry
        self.entries.append(entry)

    def asked(self, call: Call, choice: Choice, answer: object, again: bool) -> None:
        """Note an attempt at a target; the last of several, and any before it, stand by themselves."""
        self.attempts += 1
        if not again:
            self._forwarded(call)
            if self.attempts == 1 and not call.note:
                return
        if isinstance(answer, Failed):
            text = f"{choice.target.label} {answer.step}"
        else:
            text = f"{choice.target.label} answered {getattr(answer, 'status', 'too late')}"
        if not again and self.attempts == 1:
            text = f"{text}; {call.note}"
        verdict = "again" if again else "done"
        self.entries.append(Entry(Stage.FORWARD.value, f"Attempt {self.attempts}", verdict, "", "built in", text))

    def _forwarded(self, call: Call) -> None:
        """Note the policies of the stage Forward, which have held for the attempts."""
        for named in getattr(call.operation, "named", ()):
            if named.stage is Stage.FORWARD:
                self._done.append(named)
                for told in named.told:
                    many = f"{self.attempts} attempt{'s' if self.attempts > 1 else ''}"
                    text = many if isinstance(told.part, Retrying) else ""
                    entry = Entry(Stage.FORWARD.value, told.title, "passed", told.name, told.placement, text)
                    self.entries.append(entry)

    def changed(
        self,
        told: Told,
        call: Call,
        answer: Answered,
        before: tuple[list[Header], bytes | None, int],
        refusal: Refusal | None,
    ) -> None:
        """Note a change of the answer from what it was before, what did not fit, or that it could not be made."""
        verdict = "done" if refusal is None else "refused"
        note = refusal.note if refusal is not None else ""
        headers, body, misfits = before
        changes = self._said() + _field_changes(headers, answer.headers, frozenset())
        if answer.body != body:
            changes += body_change(body, answer.body)
        changes += _misfits(call, misfits)
        self.entries.append(
            Entry(Stage.RETURN.value, told.title, verdict, told.name, told.placement, note, changes=changes)
        )

    def erred(self, told: Told, refusal: Refusal, reply: Reply) -> None:
        """Note that a refusal was answered another way."""
        text = f"{refusal.reason.code} answered {reply.status}"
        entry = Entry(Stage.ON_ERROR.value, told.title, "done", told.name, told.placement, text, changes=self._said())
        self.entries.append(entry)

    def not_reached(self, steps: Sequence[NamedStep]) -> list[Entry]:
        """What of an operation's steps was not run, since the call was refused or answered before."""
        return [
            Entry(named.stage.value, told.title, "not reached", told.name, told.placement)
            for named in steps
            for told in named.told
            if not any(done is named or done is told for done in self._done)
        ]


def told_by(named: NamedStep) -> Callable[[Call], Refusal | None]:
    """A step that tells the call's trace what it does."""

    def step(call: Call) -> Refusal | None:
        refusal: Refusal | None = call.trace.step(named, call)
        return refusal

    return step


def _reads(told: Told, call: Call) -> Pairs:
    return told.part.reads(call) if told.part is not None and told.part.reads is not None else []


def _vouch(call: Call, vouched: Vouched) -> Entry:
    call.caller = vouched.application
    call.claims = vouched.claims
    call.user = str((vouched.claims or {}).get("sub", ""))
    name = f"{vouched.application.organization}/{vouched.application.application}"
    text = f"taken to be {name}, without a credential{f', by {vouched.by}' if vouched.by else ''}"
    said = (vouched.claims or {}).items()
    claims = [(key, value if isinstance(value, str) else json.dumps(value)[:LONGEST_VALUE]) for key, value in said]
    title = "Bench" if vouched.by else "The application"
    return Entry(Stage.IDENTIFY.value, title, "identified", "", "built in", text, claims)


def _entries(
    named: NamedStep, call: Call, refusal: Refusal | None, read: list[Pairs], changes: Pairs, us: float
) -> list[Entry]:
    if named.stage is Stage.IDENTIFY and named.told[0].name:
        return _identify_entries(named, call, refusal, read, changes, us)
    if named.stage is Stage.METER:
        return _meter_entries(named, call, refusal, read, us)
    part = named.told[0]
    verdict = "refused" if refusal is not None else "passed"
    text = refusal.note if refusal is not None else ""
    if part.title == "Subscription" and call.grant is not None:
        text = f"plan {call.grant.plan}, subscription {call.grant.subscription}"
    if refusal is not None and not text:
        text = refusal.reason.detail
    return [Entry(named.stage.value, part.title, verdict, part.name, part.placement, text, read[0], changes, us)]


def _identify_entries(
    named: NamedStep, call: Call, refusal: Refusal | None, read: list[Pairs], changes: Pairs, us: float
) -> list[Entry]:
    decided = call.way or (refusal.policy if refusal is not None else "")
    made = []
    for part, pairs in zip(named.told, read, strict=True):
        entry = Entry(named.stage.value, part.title, "not shown", part.name, part.placement, reads=pairs)
        if part.name == decided or (len(named.told) == 1 and (refusal is not None or call.caller is not None)):
            entry.us, entry.changes = us, changes
            if refusal is not None:
                entry.verdict = "refused"
                entry.text = refusal.note or refusal.reason.detail
            elif call.caller is not None:
                entry.verdict = "identified"
                entry.text = f"{call.caller.organization}/{call.caller.application}"
                if call.user:
                    entry.text += f" for the end user {call.user}"
        made.append(entry)
    if refusal is not None and not any(entry.verdict == "refused" for entry in made):
        made.append(
            Entry(
                named.stage.value, "No caller", "refused", "", "built in", refusal.reason.detail,
                changes=changes, us=us,
            )
        )  # fmt: skip
    return made


def _meter_entries(named: NamedStep, call: Call, refusal: Refusal | None, read: list[Pairs], us: float) -> list[Entry]:
    taken = call.taken
    made = []
    for part, pairs in zip(named.told, read, strict=True):
        entry = Entry(named.stage.value, part.title, "passed", part.name, part.placement, reads=pairs)
        if taken is not None and is_own(part, taken.limiter):
            entry.us = us
            if refusal is not None:
                entry.verdict, entry.text = "refused", f"{refusal.note}; more in {taken.reset} s"
            else:
                entry.text = f"{taken.left} left of {taken.window}, the tightest"
        made.append(entry)
    if call.held_us:
        verdict = "refused" if refusal is not None else "passed"
        text = f"held {call.held_us / 1000:.0f} ms until its turn came under ‘{call.held_by}’"
        made.append(Entry(named.stage.value, "Held", verdict, "", "built in", text, us=call.held_us))
    if taken is not None and taken.over is not None:
        text = f"{taken.over.windows[0]} used up; let through and marked"
        made.append(Entry(named.stage.value, "Soft quota", "passed", taken.over.name, "quota", text))
    if taken is not None and not any(is_own(part, taken.limiter) for part in named.told):
        text = f"{refusal.note}; more in {taken.reset} s" if refusal else f"{taken.left} left of {taken.window}"
        verdict = "refused" if refusal is not None else "passed"
        title, placement = where_of(taken.limiter)
        made.append(Entry(named.stage.value, title, verdict, taken.limiter.name, placement, text, us=us))
    return made


def is_own(told: Told, limiter: Limiter) -> bool:
    """Whether a limit is a policy's own; a quota makes one for each of its stretches."""
    own = told.part.limiter if isinstance(told.part, Limit) else None
    return own is limiter or (limiter.is_quota and limiter.id == f"{told.placement}/{told.name}")


def where_of(limiter: Limiter) -> tuple[str, str]:
    """What a limit is called that is no policy, and where it stands."""
    layer = limiter.id.partition("/")[0]
    if layer == "@cap":
        return "Platform cap", "platform"
    name = limiter.name.capitalize()
    return (f"Quota of {name}", "plan") if layer == "@quota" else (f"{name} plan", "plan")


_FIELDS = tuple(one.name for one in fields(Entry))


def as_data(entries: list[Entry]) -> list[dict[str, Any]]:
    """Entries as JSON can hold them."""
    return [{name: getattr(entry, name) for name in _FIELDS} for entry in entries]
