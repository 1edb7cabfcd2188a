"""Adding a node: a join token is made, the command is shown once, and each step is shown as it happens."""

from datetime import UTC, datetime
from shlex import quote
from typing import Any

from flask import Blueprint, abort, current_app, request, session

from tamarack.console.page import acting, back_to, done, environment, refuse, render, requires
from tamarack.core.nodes.joining import steps_seen
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.nodes import joining
from tamarack.store.nodes.tables import JoinToken, Node
from tamarack.web.application import db, environments, settings_of
from tamarack.web.once import Once
from tamarack.web.quick_start.pinned import public_key_pin
from tamarack.web.quick_start.places import ways, without_index

pages = Blueprint("adding", __name__, url_prefix="/nodes")

_once = Once()
_NEW = "new-join-token"


def command(feed: str, token: str, pin: str = "") -> str:
    """What is copied to the machine that is to become a node. With a `pin` curl takes that public key and no other,
    whoever signed it."""
    field = quote(f"Authorization: Bearer {token}")
    pinned = f"-k --pinnedpubkey {quote(pin)} " if pin else ""
    return f"curl -fsS {pinned}-H {field} {quote(f'{feed}/quick-start/node.sh')} | sh"


def _choices() -> list[tuple[str, str]]:
    return [(name, name) for name in environments()]


@pages.get("/new")
@requires("nodes")
def form() -> Any:
    return render("nodes/new.html", typed={"environment": environment()}, errors={}, choices=_choices())


@pages.post("/new")
@requires("nodes")
def make() -> Any:
    where, labels = request.form.get("environment", ""), request.form.get("labels", "")
    try:
        made = joining.make_token(db(), acting(), where, labels)
    except NotPossible as error:
        db().rollback()
        errors = {error.field or "environment": str(error)}
        typed = {"environment": where, "labels": labels}
        return render("nodes/new.html", typed=typed, errors=errors, choices=_choices()), 422
    db().commit()
    session[_NEW] = _once.put((made.row.id, made.value))
    return back_to("adding.page", id=made.row.id)


@pages.get("/joining/<id>")
@requires("nodes")
def page(id: str) -> Any:
    token = db().get(JoinToken, id)
    if token is None:
        abort(404, "There is no such join token; it was withdrawn.")
    node = db().get(Node, token.node) if token.node else None
    heard = node is not None and node.version != ""
    values = {
        "token": token,
        "node": node,
        "over": token.used_at is None and token.expires_at <= now(),
        "steps": steps_seen(
            token.steps,
            node.started_at.timestamp() if heard and node is not None else 0,
            node.rollout if node is not None else 0,
            node.taken_up_at.timestamp() if node is not None and node.taken_up_at is not None else 0,
        ),
        "problem": node.problem if node is not None else "",
        "moment": lambda seconds: datetime.fromtimestamp(seconds, UTC),
    }
    if request.args.get("part") == "steps":
        return render("nodes/steps.html", **values)
    whose, value = _once.peek(str(session.get(_NEW, ""))) or ("", "")
    shown = value if whose == id and token.used_at is None else ""
    settings = settings_of(current_app)
    feed, pin = settings.feed_url, ""
    if shown and settings.feed_ca:
        pin = public_key_pin(feed)
    return render(
        "nodes/joining.html",
        command=command(feed, shown, pin) if shown else "",
        unpinned=bool(shown and settings.feed_ca and not pin),
        ways=ways(feed, shown, pin) if shown else (),
        fetching=without_index(feed, pin) if shown else "",
        feed=feed,
        **values,
    )


@pages.post("/joining/<id>/withdraw")
@requires("nodes")
def withdraw(id: str) -> Any:
    """Make a token good no longer."""
    try:
        joining.withdraw(db(), acting(), id)
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
    else:
        db().commit()
        done("The join token is good no longer.")
    return back_to("nodes.index")
