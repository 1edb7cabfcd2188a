"""Joining: the steps that a quick start tells of, and the one request by which a node becomes one."""

import orjson
from flask import Blueprint, Response, abort, current_app, request

from tamarack import __version__
from tamarack.core.nodes.joining import JOIN_PREFIX, CannotJoin
from tamarack.core.nodes.keys import asking_key, sealing_key
from tamarack.store.nodes import joining
from tamarack.web.application import db, settings_of, told_gateway
from tamarack.web.quick_start.bearer import shown

pages = Blueprint("joining", __name__)

LARGEST = 10_000


def _said() -> dict[str, str]:
    request.max_content_length = LARGEST  # also of what comes without saying how long it is
    try:
        said = orjson.loads(request.get_data())
    except ValueError:
        said = request.form.to_dict()
    if not isinstance(said, dict):
        abort(422, "Send an object.")
    return {str(name): str(value) for name, value in said.items()}


@pages.post("/join/step")
def step() -> tuple[str, int]:
    """A step of a quick start was done, or went wrong."""
    said = _said()
    joining.tell_step(db(), shown(JOIN_PREFIX), said.get("step", ""), said.get("problem", ""))
    db().commit()
    return "", 204


@pages.post("/join")
def join() -> Response:
    """A node joins: it is told its credential and keys, once."""
    said, token = _said(), shown(JOIN_PREFIX)
    try:
        node, credential = joining.join(db(), token, said.get("name", ""), said.get("address", "")[:300])
    except CannotJoin as error:
        db().rollback()
        _tell(token, str(error))
        raise
    settings = settings_of(current_app)
    keys = settings.keys
    answer = {
        "version": __version__,
        "name": node.name,
        "environment": node.environment,
        "credential": credential,
        "keys": {
            "pepper": keys.text("pepper"),
            "sealing": sealing_key(keys.raw("secrets"), node.name).hex(),
            "asking": asking_key(keys.raw("bench"), node.name).hex(),
        },
        "reach": {"unreachable": settings.unreachable, "reachable": settings.reachable},
        "addresses": {
            "portal": settings.portal_url,
            "gateway": told_gateway(node.environment),
            "sign_in": settings.sign_in_url,
        },
    }
    db().commit()
    return Response(orjson.dumps(answer), content_type="application/json")


def _tell(token: str, problem: str) -> None:
    """Show why it went wrong where the token was made; a token that is not known has no such place."""
    try:
        joining.tell_step(db(), token, "joined", problem)
    except CannotJoin:
        return
    db().commit()
