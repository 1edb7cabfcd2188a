"""Token count: where calls to a language model say what they ask, and their answers what it took."""

from typing import Annotated, Literal

from pydantic import AfterValidator, Field, field_validator

from tamarack.core.carrying.parts import Part, Reading
from tamarack.core.form_hints import hints
from tamarack.core.language_models.shape import CHAT, LARGEST_PROMPT, Shape
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name

MOST_PLACES = 12


def _pointer(value: str) -> str:
    if value and not value.startswith("/"):
        raise ValueError(f"{value!r} is not a JSON Pointer; it starts with /, like /usage/prompt_tokens")
    return value


Place = Annotated[str, Field(max_length=200), AfterValidator(_pointer)]
_RARE = hints(rare=True)


class TokenCount(Policy):
    """Record the tokens of calls to a language model."""

    kind: Literal["token-count"] = "token-count"
    name: Name = Field(default="token-count", title="Name", description=NAME_HELP)
    prompt: Place = Field(
        default=CHAT.prompt_tokens,
        title="Prompt tokens stand at",
        description="A JSON Pointer (RFC 6901) into the answer, or into each event of a stream. Answers and events over"
        " 1 MB are not looked into.",
    )
    completion: Place = Field(
        default=CHAT.completion_tokens,
        title="Completion tokens stand at",
        description="A JSON Pointer into the answer; empty where there are none.",
    )
    cached: Place = Field(
        default=CHAT.cached_tokens,
        title="Cached prompt tokens stand at",
        description="Those of the prompt that the model had at hand; empty where it does not tell.",
        json_schema_extra=_RARE,
    )
    served: Place = Field(
        default=CHAT.served,
        title="The model that answered stands at",
        description="A JSON Pointer into the answer.",
        json_schema_extra=_RARE,
    )
    said: tuple[Place, ...] = Field(
        default=CHAT.said,
        max_length=MOST_PLACES,
        title="Texts of the answer stand at",
        description="One place a line, of whole answers and of pieces: they are counted where no tokens are told.",
        json_schema_extra=_RARE,
    )
    model: Place = Field(
        default=CHAT.model,
        title="The model asked for stands at",
        description="A JSON Pointer into the request.",
        json_schema_extra=_RARE,
    )
    prompts: tuple[Place, ...] = Field(
        default=CHAT.prompts,
        max_length=MOST_PLACES,
        title="The prompt stands at",
        description="One place a line, in the request. All texts below are counted.",
        json_schema_extra=_RARE,
    )
    most: tuple[Place, ...] = Field(
        default=CHAT.most,
        max_length=MOST_PLACES,
        title="The longest answer stands at",
        description="One place a line, in the request: a number of tokens. The first that is there holds.",
        json_schema_extra=_RARE,
    )
    answers: Place = Field(
        default=CHAT.answers,
        title="The number of answers stands at",
        description="In the request; empty where there is always one.",
        json_schema_extra=_RARE,
    )
    streams: Place = Field(
        default=CHAT.streams,
        title="Whether the answer is streamed stands at",
        description="In the request: true for piece by piece.",
        json_schema_extra=_RARE,
    )
    usage_of_streams: Literal["ask for it", "leave it alone"] = Field(
        default="ask for it",
        title="What a stream took",
        description="Asked of the backend by `stream_options` where the caller did not, and then not told to the"
        " caller. Choose to leave it alone where the backend does not know that; the texts are counted then.",
    )

    @field_validator("prompts", "most", "said")
    @classmethod
    def _filled(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(place for place in value if place)

    @property
    def shape(self) -> Shape:
        """Where things stand."""
        return Shape(
            model=self.model,
            prompts=self.prompts,
            most=self.most,
            answers=self.answers,
            streams=self.streams,
            asks_usage=self.usage_of_streams == "ask for it",
            prompt_tokens=self.prompt,
            completion_tokens=self.completion,
            cached_tokens=self.cached,
            served=self.served,
            said=self.said,
        )


def reading(shape: Shape = CHAT, chosen: bool = False) -> Reading:
    """The part by which calls are read as calls to a language model."""
    return Reading(
        stage=Stage.PERMIT, shape=shape, chosen=chosen, request_body=LARGEST_PROMPT, media=b"application/json"
    )


def _compile(policy: TokenCount, surroundings: Surroundings) -> list[Part]:
    return [reading(policy.shape, chosen=True)]


def _sentence(policy: TokenCount) -> str:
    places = " and ".join(f"`{place}`" for place in (policy.prompt, policy.completion) if place)
    if not places:
        return "The tokens of prompt and answer are counted from their texts, and recorded."
    return f"The tokens that its answer tells at {places} are recorded."


KIND = PolicyKind(
    kind="token-count",
    title="Token count",
    stage=Stage.METER,
    purpose="Record the tokens that a language model's answers tell of, and say where they stand",
    model=TokenCount,
    compile=_compile,
    brief=lambda policy: "as answers tell" if policy.shape[:-1] == CHAT[:-1] else "another shape",
    sentence=_sentence,
    reads_prompts=True,
    reasons=("too-large",),
    alone=True,
)
