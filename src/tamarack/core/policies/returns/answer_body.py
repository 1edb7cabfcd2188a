"""Answer body: changed on its way back to the caller."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Change, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.http.heads import Answered
from tamarack.core.policies.body_change import (
    TAKES,
    BodyChange,
    NotChanged,
    applies,
    changer,
    fields_after,
    media_after,
)
from tamarack.core.policies.guard.body_size import size_in_words
from tamarack.core.policies.kind import NAME_HELP, PolicyKind, Surroundings
from tamarack.core.shaping.wanted import body_wanted, where_in_words
from tamarack.core.stages import Stage
from tamarack.core.types import Name

_ASKS = {"json": b"application/json", "xml": b"application/xml, text/xml;q=0.9", "form": b"*/*"}
_WITHOUT_BODY = frozenset((204, 205, 304))
_NEGOTIATED = frozenset((b"accept", b"accept-encoding", b"range", b"if-range"))
"""Fields by which a backend would give a body that cannot be changed: compressed, in part, or of another type."""


class AnswerBody(BodyChange):
    """Change the answer's body."""

    kind: Literal["answer-body"] = "answer-body"
    name: Name = Field(default="answer-body", title="Name", description=NAME_HELP)


def _compile(policy: AnswerBody, surroundings: Surroundings) -> list[Part]:
    change, media, when = changer(policy), media_after(policy), policy.when
    refuses = policy.otherwise == "refuse"
    asks = _ASKS.get(TAKES[policy.do])
    failed = REASONS["answer-unreadable"]

    mine = object()
    named = dict.fromkeys(condition.name.encode() for condition in when if condition.place == "header")
    varies = [(b"vary", b", ".join(named))] if named else []

    def ask(call: Call) -> Refusal | None:
        """Decide by the call as it came, and ask the backend for what can be changed."""
        for condition in when:
            if not condition.holds(call):
                return None
        call.answer_marks = (*call.answer_marks, mine)
        others = _NEGOTIATED if asks is not None else _NEGOTIATED - {b"accept"}
        kept = [field for field in call.headers if field[0] not in others]
        call.headers = [*kept, (b"accept", asks)] if asks is not None else kept
        return None

    def give(call: Call, answer: Answered) -> Refusal | None:
        if varies:  # changed or not, it hangs on them (RFC 9110, 12.5.5)
            answer.headers = [*answer.headers, *varies]
        if mine not in call.answer_marks or answer.status in _WITHOUT_BODY or answer.status == 206:
            return None
        fields = dict(answer.headers)
        if not applies(policy, fields.get(b"content-type", b"")):
            return None
        if call.method == "HEAD":
            answer.headers = fields_after(answer.headers, media)
            return None
        body = answer.body
        if body == b"":
            return None
        if body is None or len(body) > policy.at_most:
            return unreadable(f"it has more than {size_in_words(policy.at_most)}")
        if b"content-encoding" in fields:
            return unreadable("it is compressed")
        try:
            answer.body = change(body, call)
        except NotChanged as error:
            return unreadable(str(error))
        answer.headers = fields_after(answer.headers, media)
        return None

    def unreadable(note: str) -> Refusal | None:
        return Refusal(failed, policy=policy.name, note=f"the answer's body: {note}") if refuses else None

    wanted = body_wanted(when, policy.text)
    return [
        Change(stage=Stage.SHAPE, request=ask, request_body=wanted),
        Change(stage=Stage.RETURN, answer=give, answer_body=policy.at_most),
    ]


KIND = PolicyKind(
    kind="answer-body",
    title="Answer body",
    stage=Stage.RETURN,
    purpose="Edit the answer's JSON, bring it to XML or back, or make it from a text",
    model=AnswerBody,
    compile=_compile,
    brief=lambda policy: policy.do,
    sentence=lambda policy: f"The answer's body is {policy.said}{where_in_words(policy.when)}.",
    sentence_outside=lambda policy: (
        f"Answers are {policy.said}{where_in_words(policy.when)}."
        if policy.do in ("JSON to XML", "XML to JSON")
        else ""
    ),
    reasons=("answer-unreadable",),
)
