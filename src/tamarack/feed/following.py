"""What a node follows: a look at what is new, its report, and what it asks for besides."""

import os
from typing import Any

import orjson
from flask import Blueprint, Response, abort, current_app, request
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from tamarack.core.nodes.feed import News, Report, Standing, news_as_data
from tamarack.core.types import problems_of
from tamarack.feed import signed_in
from tamarack.feed.waker import Waker
from tamarack.store.nodes import feed, joining
from tamarack.web.application import db, settings_of

pages = Blueprint("following", __name__)

LONGEST_WAIT_S = 20.0
MOST_TOKENS = 256
LARGEST_REPORT = 2_000_000
JSON = "application/json"


class _Look(BaseModel):
    model_config = ConfigDict(extra="ignore")

    after: int = Field(ge=0, le=2**31 - 1)
    above: int = Field(ge=0, le=2**31 - 1)
    standing: Standing = "serving"
    wait: float = Field(default=0.0, ge=0)


def _read(model: type[BaseModel], said: Any) -> Any:
    try:
        return model.model_validate(said)
    except ValidationError as error:
        abort(422, "; ".join(f"{one.field} {one.message}" for one in problems_of(error)))


def _body() -> Any:
    request.max_content_length = LARGEST_REPORT
    try:
        return orjson.loads(request.get_data())
    except ValueError as error:
        abort(422, f"The body is no JSON: {error}")


@pages.get("/feed")
def look() -> Response:
    """What is new. Waits for it, as long as the node says and no longer than `LONGEST_WAIT_S`."""
    asked: _Look = _read(_Look, request.args.to_dict())
    waker: Waker = current_app.extensions["tamarack_waker"]
    counted = waker.count
    news = _look(asked)
    if not _is_news(news, asked) and asked.wait:
        db().rollback()
        db().close()  # its connection is for others while this waits
        waker.wait(counted, min(asked.wait, LONGEST_WAIT_S))
        news = _look(asked)
    return Response(orjson.dumps(news_as_data(news)), content_type=JSON)


def _look(asked: _Look) -> News:
    node = signed_in.node()
    reseal = feed.resealer(settings_of(current_app).keys.credentials, node.name, os.urandom)
    return feed.look(db(), node, asked.after, asked.above, reseal)


def _is_news(news: News, asked: _Look) -> bool:
    return bool(
        news.newest != asked.after or news.rollout is not None or news.standing != asked.standing or news.new_credential
    )


@pages.post("/feed/report")
def report() -> Response:
    node = signed_in.node()
    said: Report = _read(Report, _body())
    at = feed.report(db(), node, said.cleaned())
    db().commit()
    if at is None:
        raise signed_in.Revoked(f"The node {node.name} was revoked.")
    return Response(orjson.dumps({"now": at}), content_type=JSON)


@pages.post("/feed/key-sets")
def ask_for_key_set() -> tuple[str, int]:
    signed_in.node()
    url = _body().get("url")
    if not isinstance(url, str) or not 0 < len(url) <= 2_000:
        abort(422, "Name the key set's address as url.")
    feed.ask_for_key_set(db(), url)
    db().commit()
    return "", 204


@pages.post("/feed/tokens")
def find_tokens() -> Response:
    signed_in.node()
    digests = _body().get("digests")
    if not isinstance(digests, list) or len(digests) > MOST_TOKENS or not all(isinstance(one, str) for one in digests):
        abort(422, f"Name at most {MOST_TOKENS} digests.")
    return Response(orjson.dumps(feed.find_tokens(db(), digests)), content_type=JSON)


@pages.post("/feed/credential")
def new_credential() -> Response:
    """A new credential; the one that was shown is good until this one is first used."""
    node = signed_in.node()
    credential = joining.hand_out_credential(db(), node)
    db().commit()
    return Response(orjson.dumps({"credential": credential}), content_type=JSON)
