"""Talking to a chat API from its page: through the gateway, as one's own application, told as it comes."""

import json
import time
from collections.abc import Iterable
from threading import BoundedSemaphore
from typing import Annotated, Any, Literal

from flask import Blueprint, Response, abort, current_app, request
from pydantic import Field, ValidationError

from tamarack.core.configuration.model import Api, Version
from tamarack.core.configuration.models_shown import models_shown
from tamarack.core.trying.bench import BenchCall
from tamarack.core.trying.naming import named_by
from tamarack.core.types import Frozen, problems_of
from tamarack.portal.catalogue.one_api import subscribed, view_of
from tamarack.portal.catalogue.reference import head_values
from tamarack.portal.often import a_node, nobody_answers, often_words
from tamarack.portal.page import acting, me, my_application, offered_live, render, requires, shown_version
from tamarack.web.application import settings_of
from tamarack.web.outgoing.talking import Told, talk

pages = Blueprint("talking", __name__, url_prefix="/apis/<api>/<version>/talk")

CALL = "post /chat/completions"
MOST_TALKING = 2
"""Conversations that are told at once, of the eight requests that a program serves at a time."""
_PLACES = BoundedSemaphore(MOST_TALKING)


class Message(Frozen):
    """One thing that was said."""

    role: Literal["system", "user", "assistant"]
    content: Annotated[str, Field(max_length=20_000)]


class Said(Frozen):
    """What was said so far, and how the model is to answer."""

    model: Annotated[str, Field(max_length=120)] = ""
    max_tokens: int = Field(default=400, ge=1, le=100_000)
    messages: tuple[Message, ...] = Field(min_length=1, max_length=60)


def can_talk(version: Version) -> bool:
    """Whether a version has an operation to talk by."""
    return version.operation(CALL) is not None


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside = _found(api, version)
    ready = [(one, sub) for one, sub in subscribed(found.name) if sub.state == "active"]
    models = dict.fromkeys(one.model for one in models_shown(offered_live(), found, inside))
    return render(
        "catalogue/reference/talk.html", **head_values(found, inside), tab="talk", ready=ready, models=list(models)
    )


def _found(api: str, version: str) -> tuple[Api, Version]:
    found, inside = shown_version(api, version)
    if found.style != "chat" or not can_talk(inside):
        abort(404, "This API is none to talk to.")
    return found, inside


@pages.post("/")
@requires("see")
def say(api: str, version: str) -> Any:
    """Say something; the answer is told line by line, each a JSON object."""
    found, inside = _found(api, version)
    person = me()
    assert person is not None
    id, _, environment = request.form.get("caller", "").partition(" ")
    application = my_application(id)
    try:
        said = Said.model_validate(json.loads(request.form.get("said", "")))
    except ValidationError as error:
        return _told([{"problem": problems_of(error)[0].message}]), 422
    except (ValueError, RecursionError):
        return _told([{"problem": "What was said cannot be read; reload the page."}]), 422
    if words := often_words(person.id, time.monotonic()):
        return _told([{"problem": words}]), 422
    node = a_node(environment)
    if node is None:
        return _told([{"problem": nobody_answers(environment)}]), 422
    body = said.model_dump(mode="json") | {"stream": True, "stream_options": {"include_usage": True}}
    named = named_by(found, inside, view_of(inside, inside.operation(CALL))).items()  # type: ignore[arg-type]
    lines = ["Content-Type: application/json", *(f"{name}: {value}" for name, value in named)]
    call = BenchCall(method="POST", path=f"{inside.base_path}/chat/completions", headers=tuple(lines),
                     body=json.dumps(body), application=application.id)  # fmt: skip
    if not _PLACES.acquire(blocking=False):
        return _told([{"problem": "Others are talking at the moment; try again in a few seconds."}]), 503
    answer = _told(talk(call, node, settings_of(current_app).keys.raw("bench"), acting().name))
    answer.call_on_close(_PLACES.release)  # also where nobody listens any more
    return answer


def _told(lines: Iterable[Told]) -> Response:
    """Lines of JSON, each sent as it comes."""
    return Response((json.dumps(line) + "\n" for line in lines), mimetype="application/x-ndjson")
