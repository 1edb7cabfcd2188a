"""Request body: changed on its way to the backend."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Change, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.policies.body_change import BodyChange, NotChanged, applies, changer, fields_after, media_after
from tamarack.core.policies.guard.body_size import size_in_words
from tamarack.core.policies.kind import NAME_HELP, PolicyKind, Surroundings
from tamarack.core.shaping.wanted import where_in_words
from tamarack.core.stages import Stage
from tamarack.core.types import Name


class RequestBody(BodyChange):
    """Change the request's body."""

    kind: Literal["request-body"] = "request-body"
    name: Name = Field(default="request-body", title="Name", description=NAME_HELP)


def _compile(policy: RequestBody, surroundings: Surroundings) -> list[Part]:
    change, media, when = changer(policy), media_after(policy), policy.when
    refuses = policy.otherwise == "refuse"
    unread = Refusal(
        REASONS["bad-body"], policy=policy.name, note="the body was not here whole: it is larger than is read"
    )
    largest = f"A body is changed here, and may have at most {size_in_words(policy.at_most)}."
    too_large = Refusal(REASONS["too-large"], policy=policy.name, detail=largest)

    def step(call: Call) -> Refusal | None:
        if not call.length or not applies(policy, call.media):
            return None
        for condition in when:
            if not condition.holds(call):
                return None
        body = call.body
        if body is None:
            if not refuses:
                return None
            return too_large if call.length > policy.at_most else unread
        if any(name == b"content-encoding" for name, _ in call.headers):
            note = "its Content-Encoding is not undone here"
            return _bad(policy, note) if refuses else None
        try:
            call.body = change(body, call)
        except NotChanged as error:
            return _bad(policy, str(error)) if refuses else None
        call.headers = fields_after(call.headers, media)
        if media:
            call.media = media.encode()
        return None

    return [Change(stage=Stage.SHAPE, request=step, request_body=policy.at_most)]


def _bad(policy: RequestBody, note: str) -> Refusal:
    return Refusal(REASONS["bad-body"], policy=policy.name, note=note, detail=f"The request's body: {note}.")


KIND = PolicyKind(
    kind="request-body",
    title="Request body",
    stage=Stage.SHAPE,
    purpose="Edit the request's JSON, bring it to XML or a form and back, or make it from a text",
    model=RequestBody,
    compile=_compile,
    brief=lambda policy: policy.do,
    sentence=lambda policy: f"The request's body is {policy.said}{where_in_words(policy.when)}.",
    sentence_outside=lambda policy: "",
    reasons=("bad-body", "too-large"),
)
