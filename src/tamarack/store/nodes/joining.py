"""Joining: tokens are made, used once, and become a node with a credential of its own."""

import secrets
from datetime import timedelta
from hashlib import sha256
from typing import NamedTuple

from sqlalchemy import text
from sqlmodel import Session, col, select

from tamarack.core.identity.credentials import make_key
from tamarack.core.nodes.joining import (
    JOIN_PREFIX,
    NODE_PREFIX,
    TOKEN_LIVES_S,
    TOLD_BY_SCRIPT,
    CannotJoin,
    labels_of,
    node_name,
)
from tamarack.core.text import one_line
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.environments.queries import known
from tamarack.store.errors import NotPossible
from tamarack.store.nodes.tables import JoinToken, Node

MOST_STEPS = 40
"""Steps kept of one quick start."""


class NewToken(NamedTuple):
    """A token as it is shown once, and its row."""

    value: str
    row: JoinToken


def _digest(value: str) -> str:
    return sha256(value.encode()).hexdigest()


def make_token(session: Session, actor: Actor, environment: str, labels: str = "") -> NewToken:
    """A token by which one node may join an environment. Raises `NotPossible`."""
    there = known(session)
    if environment not in there:
        raise NotPossible(f"{environment[:40]!r} is not an environment; there are {there.said}.", "environment")
    try:
        named = labels_of(labels)
    except ValueError as error:
        raise NotPossible(str(error), "labels") from error
    value = make_key(secrets.token_bytes(96), JOIN_PREFIX)
    row = JoinToken(
        digest=_digest(value), environment=environment, labels=named, made_by=actor.name,
        expires_at=now() + timedelta(seconds=TOKEN_LIVES_S),
    )  # fmt: skip
    session.add(row)
    session.flush()
    auditing.record(session, actor, "make a join token", environment, token=row.id)
    return NewToken(value, row)


def find_token(session: Session, value: str, lock: bool = False) -> JoinToken:
    """The token with a value, used or not. Raises `CannotJoin` where it is not good any more, or never was."""
    query = select(JoinToken).where(JoinToken.digest == _digest(value))
    found = session.exec(query.with_for_update() if lock else query).first()
    if found is None:
        raise CannotJoin("This join token is not known here. Make a new one under Nodes, and copy all of the command.")
    if found.expires_at <= now():
        raise CannotJoin("This join token is more than an hour old. Make a new one under Nodes.")
    return found


def used(token: JoinToken) -> CannotJoin:
    """Why a token that was used is not good."""
    return CannotJoin(f"This join token was used by {token.node}. Each is good for one node: make a new one.")


def tell_step(session: Session, value: str, step: str, problem: str = "") -> None:
    """Note what happened with a token's quick start. Raises `CannotJoin`."""
    if step not in (*TOLD_BY_SCRIPT, "joined"):
        raise CannotJoin(f"{one_line(step)[:40]!r} is no step of joining")
    _note(find_token(session, value, lock=True), step, problem)


def _note(token: JoinToken, step: str, problem: str = "") -> None:
    told = {"at": now().timestamp(), "step": step} | ({"problem": one_line(problem)[:500]} if problem else {})
    token.steps = [*token.steps, told][-MOST_STEPS:]


def join(session: Session, value: str, written_name: str, address: str = "") -> tuple[Node, str]:
    """Let a node join by its token, which is used up; returns it and its credential. Raises `CannotJoin`."""
    token = find_token(session, value, lock=True)
    if token.used_at is not None:
        raise used(token)
    name = node_name(written_name)
    session.connection().execute(text("SELECT pg_advisory_xact_lock(hashtext('tamarack nodes'))"))
    if session.get(Node, name) is not None:
        raise CannotJoin(
            f"There is, or was, a node called {name!r}, and records bear its name. Choose another one with --name."
        )
    credential = make_key(secrets.token_bytes(96), NODE_PREFIX)
    node = Node(
        name=name, environment=token.environment, address=address, labels=token.labels, joined_at=now(),
        credential=_digest(credential),
    )  # fmt: skip
    session.add(node)
    token.used_at, token.node = now(), name
    _note(token, "joined")
    auditing.record(session, Actor(name, "feed", ""), "join", f"node {name}", environment=node.environment,
                    token=token.id, made_by=token.made_by)  # fmt: skip
    session.flush()
    return node, credential


def withdraw(session: Session, actor: Actor, id: str) -> None:
    """Make a token good no longer. Raises `NotPossible` where it was used."""
    token = session.get(JoinToken, id)
    if token is None or token.used_at is not None:
        raise NotPossible("This join token was used, or is gone; the node that joined with it can be revoked.")
    auditing.record(session, actor, "withdraw a join token", token.environment, token=id)
    session.delete(token)


def waiting_tokens(session: Session) -> list[JoinToken]:
    """Tokens that are good and were not used, the newest first."""
    query = select(JoinToken).where(col(JoinToken.used_at).is_(None), col(JoinToken.expires_at) > now())
    return list(session.exec(query.order_by(col(JoinToken.made_at).desc())))


def signed_in(session: Session, credential: str) -> Node | None:
    """The node that signs in with a credential, revoked ones too; a new one takes the other's place when first used."""
    digest = _digest(credential)
    found = session.exec(
        select(Node).where((col(Node.credential) == digest) | (col(Node.next_credential) == digest))
    ).first()
    if found is not None and found.next_credential == digest and found.revoked_at is None:
        found.credential, found.next_credential = digest, None
        found.new_credential_asked = False
        auditing.record(session, Actor(found.name, "feed"), "take a new credential", f"node {found.name}")
        session.add(found)
        session.commit()
    return found


def hand_out_credential(session: Session, node: Node) -> str:
    """A new credential for a node. The one it has is good until this one is first used."""
    credential = make_key(secrets.token_bytes(96), NODE_PREFIX)
    node.next_credential = _digest(credential)
    session.add(node)
    return credential
