"""Fixed answer: status, fields and body as typed, with values of the call put in: notices, pauses, redirects."""

from datetime import UTC, datetime
from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field, StringConstraints, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Answerer, Part, Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.http.fields import NOT_SENT_BACK, field_line
from tamarack.core.http.names import header_name
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.shaping.wanted import body_wanted
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Name, Readable
from tamarack.core.values.call_values import known_of
from tamarack.core.values.conditions import Condition
from tamarack.core.values.template import Template, TemplateFailed, check_template_text, into

_FORMS = ("%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%MZ", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%SZ", "%Y-%m-%d")
_OF_THE_MESSAGE = frozenset((b"content-length", b"date", b"content-type", b"tamarack-call-id", b"cache-status"))


def parse_moment(value: object) -> str:
    """A moment of UTC as `2026-12-01 02:00`; empty for none. Raises ValueError, in words."""
    text = str(value or "").strip()
    if not text:
        return ""
    for form in _FORMS:
        try:
            return datetime.strptime(text, form).strftime("%Y-%m-%d %H:%M")
        except ValueError:
            continue
    raise ValueError(f"{text!r} is not a moment; write it like 2026-12-01 02:00, in UTC")


def seconds_of(moment: str) -> float:
    """A moment in seconds since the epoch."""
    return datetime.strptime(moment, "%Y-%m-%d %H:%M").replace(tzinfo=UTC).timestamp()


def _field(value: str) -> str:
    name, separator, rest = value.partition(":")
    if not separator or not header_name(name):
        raise ValueError(f"{value!r} is not a header field; write it like Retry-After: 120")
    if name.strip().lower().encode() in NOT_SENT_BACK | _OF_THE_MESSAGE:
        raise ValueError(f"{name.strip()!r} is written by the gateway; leave it out")
    if any(letter < " " and letter != "\t" for letter in rest):
        raise ValueError(f"{name.strip()!r} has more than one line")
    check_template_text(rest)
    return f"{name.strip()}: {rest.strip()}"


Moment = Annotated[str, BeforeValidator(parse_moment)]
FieldLine = Annotated[str, StringConstraints(max_length=2_000), AfterValidator(_field)]
TemplateText = Annotated[str, StringConstraints(max_length=100_000), Readable, AfterValidator(check_template_text)]


class FixedAnswer(Policy):
    """Answer with what is typed here."""

    kind: Literal["fixed-answer"] = "fixed-answer"
    name: Name = Field(default="fixed-answer", title="Name", description=NAME_HELP)
    status: int = Field(
        default=503, ge=200, le=599, title="Status", description="Like 503 for a pause, 302 to lead on."
    )
    headers: tuple[FieldLine, ...] = Field(
        default=(),
        max_length=20,
        title="Header fields",
        description="One a line, like `Retry-After: 3600`. Values of the call as in the body.",
        json_schema_extra=hints(rows=2),
    )
    media: Annotated[str, StringConstraints(max_length=200, pattern=r"^[ -~]*$")] = Field(
        default="application/json", title="Content type", description="Like application/json or text/plain."
    )
    body: TemplateText = Field(
        default="",
        title="Body",
        description="With values of the call: `{{ path.id }}`, `{{ query.port }}`, `{{ header['x-ship'] }}`,"
        " `{{ claims.sub }}`, `{{ caller.application }}`, `{{ call.id }}`, `{{ call.time }}`.",
        json_schema_extra=hints(rows=5),
    )
    when: tuple[Condition, ...] = Field(
        default=(),
        max_length=12,
        title="Only for calls where",
        description="All of them hold; none for every call. Like `query port equals HBR`, `header x-trial is"
        " present` or `body /cars/0/length is more than 6`.",
        json_schema_extra=hints(rows=2),
    )
    starts: Moment = Field(
        default="", title="From", description="In UTC, like 2026-12-01 02:00; empty for at once.",
        json_schema_extra=hints(rare=True),
    )  # fmt: skip
    ends: Moment = Field(
        default="", title="To", description="In UTC; empty for no end.", json_schema_extra=hints(rare=True)
    )

    @model_validator(mode="after")
    def _fits(self) -> "FixedAnswer":
        if self.starts and self.ends and self.starts >= self.ends:
            raise ValueError(f"it would end at {self.ends}, before it starts at {self.starts}; change one of them")
        if self.status in (204, 205, 304) and self.body:
            raise ValueError(f"an answer {self.status} has no body; empty it, or choose another status")
        if self.body and not self.media:
            raise ValueError("a body needs its content type, like application/json")
        return self

    @property
    def always(self) -> bool:
        """Whether it answers every call."""
        return not (self.when or self.starts or self.ends)


def _compile(policy: FixedAnswer, surroundings: Surroundings) -> list[Part]:
    body = Template(policy.body, into(policy.media))
    lines = [(line.partition(": ")[0].lower().encode(), Template(line.partition(": ")[2])) for line in policy.headers]
    media = b"content-type: %b\r\n" % policy.media.encode() if policy.body else b""
    starts = seconds_of(policy.starts) if policy.starts else 0.0
    ends = seconds_of(policy.ends) if policy.ends else float("inf")
    plain = body.plain is not None and all(value.plain is not None for _, value in lines)
    whole = b"".join(field_line(name, value.plain or b"") for name, value in lines) + media
    ready = Reply(policy.status, whole, body.plain or b"") if plain else None
    names = body.names.union(*(value.names for _, value in lines))
    failed = REASONS["answer-failed"]
    when = policy.when
    times = bool(policy.starts or policy.ends)

    def answer(call: Call) -> Reply | Refusal | None:
        if times and not starts <= call.now < ends:
            return None
        for condition in when:
            if not condition.holds(call):
                return None
        if ready is not None:
            return ready
        try:
            known = known_of(call, names)
            fields = b"".join(field_line(name, value.made_for(call, known)) for name, value in lines)
            return Reply(policy.status, fields + media, body.made_for(call, known))
        except TemplateFailed as error:
            return Refusal(failed, policy=policy.name, note=str(error))

    wanted = body_wanted(when, policy.body, *policy.headers)
    return [Answerer(stage=Stage.ANSWER, answer=answer, request_body=wanted)]


def _sentence(policy: FixedAnswer) -> str:
    when = f" where {in_words([f'`{one}`' for one in policy.when])}" if policy.when else ""
    span = f" from {policy.starts} UTC" if policy.starts else ""
    span += f" until {policy.ends} UTC" if policy.ends else ""
    who = "Calls" if when or span else "All calls"
    return f"{who}{when} are answered {policy.status} with what is typed here{span}; the backend is not asked."


KIND = PolicyKind(
    kind="fixed-answer",
    title="Fixed answer",
    stage=Stage.ANSWER,
    purpose="Answer with what is typed here: a notice, a pause, a redirect",
    model=FixedAnswer,
    compile=_compile,
    brief=lambda policy: (
        f"{policy.status}{' for some' if policy.when else ''}{f' from {policy.starts[5:]}' if policy.starts else ''}"
    ),
    sentence=_sentence,
    sentence_outside=lambda policy: (
        f"{'Some calls are' if not policy.always else 'Every call is'} answered {policy.status} by the gateway itself."
    ),
    reasons=("answer-failed",),
    stands_alone=lambda policy: policy.always,
    on_fields=True,
)
