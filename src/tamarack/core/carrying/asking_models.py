"""Steps of calls to language models: reading the prompt, and sending on what was read."""

from __future__ import annotations

from collections.abc import Sequence

from tamarack.core.balancing.route import Choice
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.forwarding import Filter, InTurn
from tamarack.core.carrying.parts import Filtering, Step
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.http.heads import Answered
from tamarack.core.json_pointer import holder_of
from tamarack.core.language_models.estimating import Key, Learned
from tamarack.core.language_models.prompt import Prompt, asking_usage
from tamarack.core.language_models.shape import LARGEST_PROMPT, Shape
from tamarack.core.language_models.without_usage import WithoutUsage
from tamarack.core.shaping.json_bodies import dump, load

_TOO_LARGE = Refusal(
    REASONS["too-large"], detail=f"A prompt is read here, and its request has at most {LARGEST_PROMPT // 10**6} MB."
)
_READS_NOTHING = frozenset(("get", "head", "delete", "options", "trace"))


def reads_prompt(operation: str) -> bool:
    """Whether an operation, as `method path`, takes a prompt."""
    return operation.partition(" ")[0] not in _READS_NOTHING


def as_read(shape: Shape, learned: Learned, about: Key) -> Step:
    """Read what a call asks of a model. An answer in a coding could not be counted, so none is asked for."""

    def step(call: Call) -> Refusal | None:
        body = call.body
        if not call.length:
            return None  # it asks nothing
        if body is None:
            if call.media.lower().startswith(b"application/json"):
                return _TOO_LARGE
            call.prompt = Prompt(shape, None, learned, about, max(0, call.length))
            return None
        try:
            document = load(body)
        except ValueError:
            document = None
        call.prompt = Prompt(shape, document, learned, about, len(body), body)
        call.headers = [field for field in call.headers if field[0] != b"accept-encoding"]
        return None

    return step


def sent_as_read(call: Call) -> Refusal | None:
    """Send on the document that was read: each member once, so that what was decided over is what a target gets. A
    stream is asked for its usage where its caller did not ask."""
    prompt, body = call.prompt, call.body
    if prompt is None or not body:
        return None
    if body is not prompt.body:
        try:
            prompt.document = load(body)
        except ValueError:
            return None
    document = prompt.document
    if document is None:
        return None
    if isinstance(document, dict) and prompt.streams and prompt.shape.asks_usage and not prompt.tells_usage:
        prompt.document = document = asking_usage(document)
        prompt.usage_added = True
    call.body = prompt.body = dump(document)
    return None


def asked_for(call: Call, choice: Choice, body: bytes) -> bytes:
    """The body as a target is sent it: asking for the model by the name that the target has for it."""
    prompt, models = call.prompt, choice.models
    name = models.get(prompt.model) if models is not None else None
    prompt.known = prompt.known or name is not None
    if name is None or not prompt.shape.model or (name == prompt.model and not prompt.renamed):
        return body
    found = holder_of(prompt.document, prompt.shape.model)
    if found is None:
        return body
    found[0][found[1]] = name
    prompt.renamed = True
    prompt.body = renamed = dump(prompt.document)
    return renamed


def unknown_model(model: str) -> Refusal:
    """A model that no target serves."""
    return Refusal(REASONS["unknown-model"], note=f"asked for {model[:100]!r}")


def filter_of(call: Call, answer: Answered, filters: Sequence[Filtering] = ()) -> Filter | Refusal | None:
    """What changes an answer as it passes: rules, and that a stream tells its usage only to a caller who asked. A
    refusal where it cannot be looked into."""
    found: list[Filter] = []
    for part in filters:
        made = part.make(call, answer)
        if isinstance(made, Refusal):
            return made
        if made is not None:
            found.append(made)
    if call.prompt is not None and call.prompt.usage_added and answer.status < 300:
        media = next((value for name, value in answer.headers if name == b"content-type"), b"")
        if media.strip().lower().startswith(b"text/event-stream"):
            found.append(WithoutUsage())
    return InTurn(found) if len(found) > 1 else found[0] if found else None
