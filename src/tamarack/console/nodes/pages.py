"""The list of nodes, and one node: how it stands and what it is asked to do."""

from typing import Any

from flask import Blueprint, abort, request

from tamarack import __version__
from tamarack.console.page import act, acting, back_to, environment, may_roll_out, render, requires, running
from tamarack.core.nodes.standing import STANDINGS, seen_as
from tamarack.store.audit import log as auditing
from tamarack.store.nodes import joining
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.nodes.tables import Node
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.tables import Rollout
from tamarack.store.traffic import set_aside
from tamarack.web.application import db, environments

pages = Blueprint("nodes", __name__, url_prefix="/nodes")

CLOCK_OFF_MS = 1_000
"""A clock that is further off than this is told: tickets and expiries are decided by it."""


def _seen(node: Node, newest: dict[str, Rollout | None]) -> tuple[str, str]:
    want = newest.get(node.environment)
    behind = want is None or node.rollout != want.number
    return seen_as(node.standing, node.asked, known_nodes.is_away(node), node.problem, behind)


def _newest() -> dict[str, Rollout | None]:
    return {name: running(name)[0] for name in environments()}


@pages.get("")
@requires("see")
def index() -> Any:
    where, newest = environment(), _newest()
    rows = [(node, *_seen(node, newest)) for node in known_nodes.nodes(db())]
    values = {"rows": rows, "is_away": known_nodes.is_away, "ours": __version__, "clock_off": CLOCK_OFF_MS}
    if request.args.get("part") == "rows":
        return render("nodes/rows.html", **values)
    return render(
        "nodes/index.html",
        rollouts=rolling.rollouts(db(), where),
        allowed=may_roll_out(where),
        set_aside=set_aside.newest(db()),
        waiting=joining.waiting_tokens(db()),
        **values,
    )


def _node(name: str) -> Node:
    node = db().get(Node, name)
    if node is None:
        abort(404, f"There is no node {name[:63]!r}.")
    return node


@pages.get("/of/<name>")
@requires("see")
def page(name: str) -> Any:
    node = _node(name)
    newest = _newest()
    values = {
        "node": node,
        "seen": _seen(node, newest) if node.revoked_at is None else ("revoked", "bad"),
        "want": newest.get(node.environment),
        "is_away": known_nodes.is_away(node),
        "ours": __version__,
        "clock_off": CLOCK_OFF_MS,
    }
    if request.args.get("part") == "state":
        return render("nodes/state.html", **values)
    return render(
        "nodes/page.html",
        standings=STANDINGS,
        labels=" ".join(node.labels),
        events=auditing.latest(db(), f"node {name}", most=12),
        **values,
    )


@pages.post("/of/<name>/ask")
@requires("nodes")
def ask(name: str) -> Any:
    """Ask a node to serve, drain or stop."""
    standing = request.form.get("standing", "")
    act(
        lambda: known_nodes.ask(db(), acting(), name, standing),
        lambda: f"{name} is asked to be {standing}; it hears of it at once.",
    )
    return back_to("nodes.page", name=name)


@pages.post("/of/<name>/labels")
@requires("nodes")
def label(name: str) -> Any:
    written = request.form.get("labels", "")
    title = request.form.get("title", "")
    act(lambda: known_nodes.call(db(), acting(), name, title, written), f"What {name} is called is kept.")
    return back_to("nodes.page", name=name)


@pages.post("/of/<name>/credential")
@requires("nodes")
def renew(name: str) -> Any:
    """Have a joined node take a new credential."""
    act(
        lambda: known_nodes.ask_for_new_credential(db(), acting(), name),
        f"{name} is asked to fetch a new credential. The old one is refused once the new one was used.",
    )
    return back_to("nodes.page", name=name)


@pages.post("/of/<name>/revoke")
@requires("nodes")
def revoke(name: str) -> Any:
    act(
        lambda: known_nodes.revoke(db(), acting(), name),
        f"{name} is revoked: it is refused from now on, stops, and deletes what it kept. Secrets that it held are worth"
        " replacing where its machine is not to be trusted.",
    )
    return back_to("nodes.page", name=name)


@pages.post("/of/<name>/forget")
@requires("nodes")
def forget(name: str) -> Any:
    """Take a node that is away off the list."""
    if act(lambda: known_nodes.forget(db(), acting(), name), f"{name} is off the list."):
        return back_to("nodes.index")
    return back_to("nodes.page", name=name)
