"""Which nodes there are, how they stand, and what people ask of them."""

from datetime import timedelta

from sqlmodel import Session, col, select

from tamarack.core.nodes.joining import labels_of
from tamarack.core.nodes.standing import STANDINGS
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.feed.wake import notify
from tamarack.store.lines import a_line
from tamarack.store.nodes.statements import GONE_AFTER_S
from tamarack.store.nodes.tables import Node

GONE_AFTER = timedelta(seconds=GONE_AFTER_S)
MOST_TITLE = 60


def nodes(session: Session, environment: str | None = None) -> list[Node]:
    """The nodes of an environment, or all; those that were revoked are none of them."""
    query = select(Node).where(col(Node.revoked_at).is_(None)).order_by(col(Node.environment), col(Node.name))
    if environment is not None:
        query = query.where(Node.environment == environment)
    return list(session.exec(query))


def there(session: Session, environment: str) -> list[Node]:
    """The nodes of an environment that were heard of lately."""
    return [node for node in nodes(session, environment) if not is_away(node)]


def carrying(session: Session, environment: str) -> list[Node]:
    """Those of them that take calls."""
    return [node for node in there(session, environment) if node.asked != "stopped"]


def is_away(node: Node) -> bool:
    """Whether a node has not been heard of for a while."""
    return now() - node.seen_at > GONE_AFTER


def node_named(session: Session, name: str, lock: bool = False) -> Node:
    """A node that is not revoked. Raises `NotPossible` where there is none."""
    query = select(Node).where(Node.name == name, col(Node.revoked_at).is_(None))
    found = session.exec(query.with_for_update() if lock else query).first()
    if found is None:
        raise NotPossible(f"There is no node {name!r}; it was revoked or forgotten meanwhile.")
    return found


def ask(session: Session, actor: Actor, name: str, standing: str) -> Node:
    """Ask a node to serve, drain or stop. It hears of it at once. Raises `NotPossible`."""
    if standing not in STANDINGS:
        raise NotPossible(f"A node cannot be asked to be {standing!r}; it can be {', '.join(STANDINGS)}.")
    node = node_named(session, name, lock=True)
    if node.asked != standing:
        auditing.record(session, actor, STANDINGS[standing].action, f"node {name}", was=node.asked)
        node.asked = standing
        session.add(node)
        notify(session)
    return node


def call(session: Session, actor: Actor, name: str, title: str, written: str) -> Node:
    """Call a node otherwise, by a title and labels; its name stays. Raises `NotPossible` where they cannot be that."""
    node = node_named(session, name, lock=True)
    title = a_line(title, MOST_TITLE, "title", "The title", least=0)
    try:
        labels = labels_of(written)
    except ValueError as error:
        raise NotPossible(str(error), "labels") from error
    if (title, labels) != (node.title, node.labels):
        was = {"title": node.title, "labels": node.labels}
        auditing.record(session, actor, "call a node otherwise", f"node {name}", was=was, title=title, labels=labels)
        node.title, node.labels = title, labels
        session.add(node)
    return node


def ask_for_new_credential(session: Session, actor: Actor, name: str) -> Node:
    """Ask a joined node to take a new credential; the old one is good until the new one is first used."""
    node = node_named(session, name, lock=True)
    if node.joined_at is None:
        raise NotPossible(f"{name} reads the database itself and has no credential to replace.")
    auditing.record(session, actor, "ask a node for a new credential", f"node {name}")
    node.new_credential_asked = True
    session.add(node)
    notify(session)
    return node


def revoke(session: Session, actor: Actor, name: str) -> Node:
    """Revoke a joined node: its credential is refused from now on, and it stops and forgets what it kept.

    Its name stays taken, for its records bear it. Raises `NotPossible` for a node that reads the database itself.
    """
    node = node_named(session, name, lock=True)
    if node.joined_at is None:
        raise NotPossible(
            f"{name} reads the database itself: nothing was given to it that could be revoked. Stop it where it runs."
        )
    auditing.record(session, actor, "revoke a node", f"node {name}")
    node.next_credential = None
    node.revoked_at = now()  # its credential is still known, so that it can be told why it is refused
    session.add(node)
    notify(session)
    return node


def forget(session: Session, actor: Actor, name: str) -> None:
    """Take a node that is away off the list. One that reads the database comes back when it runs again."""
    node = node_named(session, name, lock=True)
    if not is_away(node):
        raise NotPossible(f"{name} is running: it was heard of a moment ago. Stop it first.")
    if node.joined_at is not None:
        raise NotPossible(f"{name} has a credential: revoke it instead, so that it cannot come back.")
    auditing.record(session, actor, "forget a node", f"node {name}")
    session.delete(node)
