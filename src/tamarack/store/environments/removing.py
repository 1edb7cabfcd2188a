"""Removing an environment: what it would end, what stands in the way, and doing it."""

from dataclasses import dataclass, field
from datetime import timedelta

from sqlmodel import Session, col, func, select

from tamarack.core.configuration.model import Configuration
from tamarack.core.environments.named_in import only_served, without_environment
from tamarack.core.text import in_words
from tamarack.store.alerts import queries as alerting
from tamarack.store.alerts.tables import AlertRow
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials as crediting
from tamarack.store.applications.tables import Credential, Subscription
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.draft import queries as drafting
from tamarack.store.environments.queries import known, lock, of_name
from tamarack.store.environments.tables import EnvironmentRow
from tamarack.store.errors import NotPossible
from tamarack.store.feed import items as feeding
from tamarack.store.life_cycle import planned
from tamarack.store.life_cycle.tables import PlannedStep
from tamarack.store.nodes import joining
from tamarack.store.nodes import queries as nodes
from tamarack.store.nodes.tables import JoinToken, Node
from tamarack.store.secrets import queries as secrets
from tamarack.store.secrets.tables import SecretValue
from tamarack.store.sign_in import clients
from tamarack.store.sign_in.tables import SignInClient
from tamarack.store.traffic import overview as watching

CALLS_OF = timedelta(days=7)
"""How far back calls are counted that an environment took."""


@dataclass(slots=True)
class Ending:
    """What the removal of an environment would end, and what has to be done before."""

    nodes: list[Node]
    subscriptions: list[Subscription]
    credentials: list[Credential]
    clients: list[SignInClient]
    secrets: list[str]
    """The secrets that have a value of its own."""
    steps: list[PlannedStep]
    alerts: list[AlertRow]
    tokens: list[JoinToken]
    named_in_draft: list[str]
    """What the draft says of it: a cap, and targets of backends."""
    calls: int
    """In the last days."""
    in_the_way: list[str] = field(default_factory=list)
    """Why it cannot be removed now, each with what to do."""


def ending(session: Session, name: str) -> Ending:
    """What the removal would end. Raises `NotPossible` where there is no such environment."""
    of_name(session, name)
    draft = drafting.load_configuration(session)
    there = nodes.nodes(session, name)
    found = Ending(
        nodes=there,
        subscriptions=list(
            session.exec(select(Subscription).where(Subscription.environment == name, Subscription.state != "ended"))
        ),
        credentials=list(
            session.exec(select(Credential).where(Credential.environment == name, col(Credential.revoked_at).is_(None)))
        ),
        clients=list(
            session.exec(
                select(SignInClient).where(SignInClient.environment == name, col(SignInClient.revoked_at).is_(None))
            )
        ),
        secrets=sorted(set(session.exec(select(SecretValue.secret).where(SecretValue.environment == name)))),
        steps=list(
            session.exec(select(PlannedStep).where(PlannedStep.environment == name, PlannedStep.standing == "planned"))
        ),
        alerts=[one for one in alerting.alerts(session) if alerting.rule_of(one).environment == name],
        tokens=[one for one in joining.waiting_tokens(session) if one.environment == name],
        named_in_draft=_named_in(draft, name),
        calls=watching.totals(session, watching.until_now(CALLS_OF, {"environment": name})).calls,
    )
    found.in_the_way = _in_the_way(session, name, draft)
    return found


def _named_in(draft: Configuration, name: str) -> list[str]:
    found = ["the cap on all its calls"] if draft.cap(name) is not None else []
    return found + [
        f"targets of {backend.name}"
        for backend in draft.backends
        if any(name in target.environments for target in backend.targets)
    ]


def _in_the_way(session: Session, name: str, draft: Configuration) -> list[str]:
    found = []
    if known(session).live == name:
        found.append("It is the live one, because it is the last: put another one at the end first.")
    alone = only_served(draft, name)
    if alone:
        found.append(
            f"In the draft, {in_words(alone)} {'has' if len(alone) == 1 else 'have'} targets for {name} alone:"
            " give other targets, or remove what nobody needs."
        )
    return found


def remove(session: Session, actor: Actor, name: str) -> Ending:
    """Remove an environment, and end what it had; returns what that was.

    Its rollouts and records stay, and its name stays taken, for they bear it. Raises `NotPossible`, with all that
    stands in the way.
    """
    lock(session)
    found = ending(session, name)
    if found.in_the_way:
        raise NotPossible(" ".join(found.in_the_way))
    for token in found.tokens:
        joining.withdraw(session, actor, token.id)
    for node in found.nodes:
        if node.joined_at is not None:
            nodes.revoke(session, actor, node.name)
        else:  # it reads the database itself, hears of this by its feed, and ends
            session.delete(node)
    for subscription in found.subscriptions:
        words = f"the environment {name} was removed"
        subscribing.set_subscription_state(session, actor, subscription, "ended", words)
    for credential in found.credentials:
        crediting.revoke_credential(session, actor, credential)
    for client in found.clients:
        clients.revoke_client(session, actor, client)
    for secret in found.secrets:
        secrets.drop_values_for(session, actor, secret, name)
    for step in found.steps:
        planned.call_off(session, actor, step)
    for alert in found.alerts:
        alerting.remove(session, actor, alert)
    _take_out_of_draft(session, actor, name)
    feeding.publish(session, "environment", name, None)
    feeding.publish(session, "tracing", name, None)
    row = of_name(session, name)
    row.removed_at = now()
    session.add(row)
    session.flush()
    _close_ranks(session)
    auditing.record(
        session, actor, "remove an environment", name,
        nodes=[node.name for node in found.nodes], subscriptions=len(found.subscriptions),
        credentials=len(found.credentials), clients=len(found.clients), secrets=found.secrets,
    )  # fmt: skip
    return found


def _take_out_of_draft(session: Session, actor: Actor, name: str) -> None:
    before = drafting.load_configuration(session)
    after = without_environment(before, name)
    if before.cap(name) is not None:
        drafting.save(session, actor, "cap", name, None, f"the environment {name} was removed")
    for backend in after.backends:
        drafting.save(session, actor, "backend", backend.name, backend, f"the environment {name} was removed")


def _close_ranks(session: Session) -> None:
    rows = select(EnvironmentRow).where(col(EnvironmentRow.removed_at).is_(None)).order_by(col(EnvironmentRow.place))
    for place, row in enumerate(session.exec(rows)):
        row.place = place
        session.add(row)
    session.flush()


def subscribed(session: Session) -> dict[str, int]:
    """How many subscriptions that are not ended there are in each environment."""
    query = (
        select(Subscription.environment, func.count())
        .where(Subscription.state != "ended")
        .group_by(Subscription.environment)
    )
    return dict(session.exec(query).all())
