"""How a difference is judged: one row for each kind, with the rule that says so.

A request may be narrowed only by breaking those who send what is taken no more; an answer may be widened only by
breaking those who do not expect what comes now.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

Verdict = Literal["breaking", "maybe", "harmless"]
Side = Literal["requests", "answers"]


class Rule(NamedTuple):
    """What a kind of difference means."""

    verdict: Verdict
    words: str


RULES: dict[str, Rule] = {
    "operation-removed": Rule("breaking", "calls to an operation that is gone fail"),
    "operation-added": Rule("harmless", "nobody calls what was not there"),
    "operation-deprecated": Rule("harmless", "it works on; callers are told to move"),
    "operation-restored": Rule("harmless", "it was to go, and stays"),
    "parameter-removed": Rule("breaking", "what callers ask for with it is no longer heeded"),
    "parameter-added": Rule("harmless", "callers need not send it"),
    "required-parameter-added": Rule("breaking", "calls without it are refused"),
    "parameter-required": Rule("breaking", "calls without it are refused"),
    "parameter-optional": Rule("harmless", "calls with it are taken as before"),
    "parameter-style": Rule("breaking", "it is read from other text than callers write"),
    "body-added": Rule("harmless", "callers need not send one"),
    "required-body-added": Rule("breaking", "calls without one are refused"),
    "body-removed": Rule("breaking", "what callers send is no longer heeded"),
    "body-required": Rule("breaking", "calls without one are refused"),
    "body-optional": Rule("harmless", "calls with one are taken as before"),
    "request-media-removed": Rule("breaking", "bodies of this type are taken no more"),
    "request-media-added": Rule("harmless", "bodies of the other types are taken as before"),
    "answer-media-removed": Rule("breaking", "callers that ask for this type get another"),
    "answer-media-added": Rule("harmless", "callers get it only when they ask for it"),
    "success-removed": Rule("breaking", "callers expect an answer that does not come"),
    "success-added": Rule("maybe", "callers may take only the successes they know"),
    "error-removed": Rule("harmless", "what can go wrong no more hurts nobody"),
    "error-added": Rule("harmless", "callers have to expect errors anyway (RFC 9110, 15)"),
    "header-removed": Rule("maybe", "callers that read the field find nothing"),
    "required-header-removed": Rule("breaking", "callers were promised the field"),
    "header-added": Rule("harmless", "fields that callers do not know are passed over"),
    "header-required": Rule("harmless", "it is there more often than before"),
    "header-optional": Rule("breaking", "callers were promised the field"),
    "security-added": Rule("breaking", "calls that needed no credential, or another, are refused"),
    "security-removed": Rule("harmless", "calls are taken as before"),
    "scopes-added": Rule("breaking", "tokens without the scope are refused"),
    "scopes-removed": Rule("harmless", "tokens that had it are taken as before"),
    "request-narrower": Rule("breaking", "some of what was taken is taken no more"),
    "request-wider": Rule("harmless", "all that was taken is taken as before"),
    "request-other": Rule("maybe", "it cannot be told whether all that was taken still is"),
    "request-replaced": Rule("breaking", "nothing that was taken is taken now"),
    "answer-replaced": Rule("breaking", "what comes is nothing that was to be expected"),
    "answer-narrower": Rule("harmless", "all that comes was to be expected before"),
    "answer-wider": Rule("breaking", "something may come that was not to be expected"),
    "answer-values-added": Rule("maybe", "callers may not know the new values"),
    "answer-other": Rule("maybe", "it cannot be told whether all that comes was to be expected"),
    "request-property-added": Rule("harmless", "callers need not send it"),
    "required-property-added": Rule("breaking", "bodies without it are refused"),
    "request-property-removed": Rule("maybe", "what callers send in it is no longer heeded"),
    "closed-property-removed": Rule("breaking", "bodies with it are refused"),
    "answer-property-added": Rule("harmless", "properties that callers do not know are passed over"),
    "answer-property-removed": Rule("breaking", "callers that read it find nothing"),
    "property-required": Rule("breaking", "bodies without it are refused"),
    "property-optional": Rule("harmless", "bodies with it are taken as before"),
    "answer-property-required": Rule("harmless", "it is there more often than before"),
    "answer-property-optional": Rule("breaking", "callers were promised it"),
    "graph-broken": Rule("breaking", "documents written for it are valid no more, or read something else"),
    "graph-risky": Rule("maybe", "documents stay valid, and may be answered what their callers do not know"),
    "graph-safe": Rule("harmless", "documents stay valid, and are answered as before"),
}


class Difference(NamedTuple):
    """One difference: of which operation, where in it, and what it means."""

    call: str
    """The operation as it is called now, or was."""
    where: str
    """The part of it: `parameter day in query`, `answer 200, application/json, /sailings/0/id`."""
    what: str
    """What differs, in words that go on from `where`."""
    rule: str
    side: Side

    @property
    def verdict(self) -> Verdict:
        return RULES[self.rule].verdict

    @property
    def why(self) -> str:
        return RULES[self.rule].words
