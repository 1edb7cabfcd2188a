"""Environments as rows: made, put in order, described, and removed with all that this ends."""

from datetime import timedelta

import pytest
from sqlmodel import Session, select

from sign_in.passengers import Passengers
from tamarack.core.configuration.backend import Target
from tamarack.core.configuration.model import Cap, check_in
from tamarack.core.environments.environment import MOST_ENVIRONMENTS, Environment
from tamarack.core.limits.window import Window
from tamarack.core.traffic.alert import Rule
from tamarack.settings import Settings
from tamarack.store.alerts import queries as alerting
from tamarack.store.alerts.tables import AlertRow
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Credential, Subscription
from tamarack.store.audit.log import Actor
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.columns import now
from tamarack.store.draft import queries as drafting
from tamarack.store.environments import queries, removing
from tamarack.store.environments.addresses import reached_at, said_of
from tamarack.store.errors import NotPossible
from tamarack.store.life_cycle import planned
from tamarack.store.life_cycle.tables import PlannedStep
from tamarack.store.nodes import joining
from tamarack.store.nodes.tables import JoinToken, Node
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.queries import NotFit
from tamarack.store.rollouts.tables import FeedItem, Rollout
from tamarack.store.secrets.queries import facts_for, set_secret, values_of
from tamarack.store.sign_in.tables import SignInClient

ADMIN = Actor("i.marsh@skerry.example", "console")
STAGING = Environment(name="staging", summary="Partners try changes here", mark="half")


@pytest.fixture
def staging(world: Session) -> Session:
    """The world, with a third environment in which what test runs is rolled out."""
    queries.make(world, ADMIN, STAGING)
    rolling.lock(world)
    running = rolling.running_configuration(world, "test")
    rolling.roll_out_this(world, ADMIN, "staging", running, "what test runs")
    world.commit()
    return world


def test_the_first_two_are_there_and_the_last_is_live(session: Session) -> None:
    there = queries.known(session)
    assert there.names == ("test", "production")
    assert there.live == "production"
    assert [one.open_to_owners for one in there.listed] == [True, False]
    assert there.on_portal == ("test", "production")
    assert {one.mark for one in there.listed} == {"ring", "disc"}


def test_another_one_stands_before_the_live_one_or_where_it_is_said(session: Session) -> None:
    queries.make(session, ADMIN, STAGING)
    queries.make(session, ADMIN, Environment(name="trial"), before="test")
    assert queries.known(session).names == ("trial", "test", "staging", "production")
    assert queries.known(session).named("staging") == STAGING
    made = session.exec(select(AuditEntry).where(AuditEntry.action == "make an environment")).first()
    assert made is not None
    assert (made.subject, made.details["before"]) == ("staging", "production")


@pytest.mark.parametrize(
    ("name", "before", "words"), [("test", "", "already"), ("staging", "nowhere", "no environment 'nowhere'")]
)
def test_one_that_cannot_be_is_not_made(session: Session, name: str, before: str, words: str) -> None:
    with pytest.raises(NotPossible, match=words):
        queries.make(session, ADMIN, Environment(name=name), before)


def test_there_is_a_most(session: Session) -> None:
    for number in range(MOST_ENVIRONMENTS - 2):
        queries.make(session, ADMIN, Environment(name=f"e{number}"))
    with pytest.raises(NotPossible, match=f"{MOST_ENVIRONMENTS} environments"):
        queries.make(session, ADMIN, STAGING)


def test_another_order_can_make_another_one_live(staging: Session) -> None:
    told: list[str] = []
    assert not queries.put_in_order(staging, ADMIN, ["test", "staging", "production"], told.append)
    assert queries.put_in_order(staging, ADMIN, ["staging", "test", "production"], told.append)
    assert told == []
    assert queries.put_in_order(staging, ADMIN, ["test", "production", "staging"], told.append)
    assert told == ["staging"]
    assert queries.known(staging).live == "staging"
    with pytest.raises(NotPossible, match="changed meanwhile"):
        queries.put_in_order(staging, ADMIN, ["test", "production"])


def test_an_address_is_written_said_by_the_settings_or_a_nodes(staging: Session, settings: Settings) -> None:
    assert reached_at(staging, settings, "test") == settings.gateway_url("test") != ""
    assert reached_at(staging, settings, "staging") == ""
    joining.join(staging, joining.make_token(staging, ADMIN, "staging").value, "pier-1", "http://127.0.0.1:8080/")
    assert reached_at(staging, settings, "staging") == "http://127.0.0.1:8080"
    assert said_of(staging, settings, "staging") == "", "tokens are made for what its nodes were told"
    assert _told(staging) == {"environment": "staging", "address": ""}
    assert queries.change(staging, ADMIN, STAGING.model_copy(update={"address": "https://staging.skerry.example"}))
    assert reached_at(staging, settings, "staging") == "https://staging.skerry.example"
    assert _told(staging) == {"environment": "staging", "address": "https://staging.skerry.example"}
    assert not queries.change(staging, ADMIN, STAGING.model_copy(update={"address": "https://staging.skerry.example"}))


def _told(session: Session) -> dict[str, object] | None:
    item = session.get(FeedItem, ("environment", "staging"))
    return item.body if item is not None else None


def test_nothing_is_rolled_out_that_names_an_unknown_environment(world: Session) -> None:
    draft = drafting.load_configuration(world)
    backend = draft.backends[0]
    target = backend.targets[0].model_copy(update={"environments": ("tset",)})
    drafting.save(world, ADMIN, "backend", backend.name, backend.model_copy(
        update={"targets": (*backend.targets, target.model_copy(update={"address": "http://127.0.0.1:9"}))}), "")  # fmt: skip
    with pytest.raises(NotFit, match="'tset' is no environment; there are test and production"):
        rolling.roll_out(world, ADMIN, "test")
    with pytest.raises(NotPossible, match="removed meanwhile"):
        rolling.roll_out_this(world, ADMIN, "staging", rolling.running_configuration(world, "test"), "")


def test_a_secret_and_a_join_token_are_for_an_environment_that_is_there(world: Session) -> None:
    with pytest.raises(NotPossible, match="not an environment"):
        set_secret(world, ADMIN, bytes(32), "tide", "high", "staging")
    with pytest.raises(NotPossible, match="there are test and production"):
        joining.make_token(world, ADMIN, "staging")


def _filled(staging: Session, settings: Settings, passengers: Passengers) -> Application:
    """An application, and all else that can belong to an environment, in staging."""
    keys = settings.keys.credentials
    owner = subscribers.organization_named(staging, "tern-trips")
    assert owner is not None
    application = subscribing.make_application(staging, ADMIN, owner, "Night Planner")
    offered = rolling.running_configuration(staging, "staging")
    product = next(one for one in offered.products if not one.visible_to)
    for where in ("test", "staging"):
        subscribing.subscribe(staging, ADMIN, offered, application, product.name, product.plans[0].name, where)
        credentials.make_credential(staging, ADMIN, keys, application, where)
    passengers.phone.environment = "staging"
    staging.add(passengers.phone)
    set_secret(staging, ADMIN, keys.sealing, "tide", "high")
    set_secret(staging, ADMIN, keys.sealing, "tide", "low", "staging")
    planned.plan(staging, ADMIN, offered, "staging", "sailings", "1", "retired", now() + timedelta(days=3))
    alerting.save(staging, ADMIN, Rule(title="Staging fails", limit=0.5, environment="staging"))
    alerting.save(staging, ADMIN, Rule(title="Production fails", limit=0.5))
    joining.make_token(staging, ADMIN, "staging")
    joining.make_token(staging, ADMIN, "test")
    joining.join(staging, joining.make_token(staging, ADMIN, "staging").value, "pier-1")
    draft = drafting.load_configuration(staging)
    cap = Cap(environment="staging", limits=(Window.model_validate("5 per second"),))
    drafting.save(staging, ADMIN, "cap", "staging", cap, "")
    backend = draft.backends[0]
    more = (Target(address="http://127.0.0.1:9", environments=("staging",)),
            Target(address="http://127.0.0.1:8", environments=("staging", "test")))  # fmt: skip
    changed = backend.model_copy(update={"targets": (*backend.targets, *more)})
    drafting.save(staging, ADMIN, "backend", backend.name, changed, "")
    staging.commit()
    return application


def test_removing_one_ends_what_it_had_and_nothing_else(
    staging: Session, settings: Settings, passengers: Passengers
) -> None:
    application = _filled(staging, settings, passengers)
    told = removing.ending(staging, "staging")
    assert told.in_the_way == []
    assert [len(one) for one in (told.nodes, told.subscriptions, told.credentials, told.clients, told.steps, told.alerts,
                                 told.tokens)] == [1] * 7  # fmt: skip
    assert (told.secrets, len(told.named_in_draft)) == (["tide"], 2)

    removing.remove(staging, ADMIN, "staging")
    staging.commit()
    assert queries.known(staging).names == ("test", "production")
    subscriptions = staging.exec(select(Subscription).where(Subscription.application_id == application.id))
    assert {one.environment: one.state for one in subscriptions} == {"test": "active", "staging": "ended"}
    keys = staging.exec(select(Credential).where(Credential.application_id == application.id))
    assert {one.environment: one.revoked_at is None for one in keys} == {"test": True, "staging": False}
    clients = staging.exec(select(SignInClient).where(SignInClient.environment == "staging")).all()
    assert [one.revoked_at is None for one in clients] == [False]
    assert [one.environment for one in values_of(staging, "tide")] == [""]
    assert {one.standing for one in staging.exec(select(PlannedStep))} == {"called off"}
    assert [one.rule["title"] for one in staging.exec(select(AlertRow))] == ["Production fails"]
    assert {one.environment for one in staging.exec(select(JoinToken)) if one.used_at is None} == {"test"}
    node = staging.get(Node, "pier-1")
    assert node is not None and node.revoked_at is not None
    draft = drafting.load_configuration(staging)
    assert draft.cap("staging") is None
    assert [one.environments for one in draft.backends[0].targets if one.address.endswith((":8", ":9"))] == [("test",)]
    assert staging.exec(select(Rollout).where(Rollout.environment == "staging")).one().note == "what test runs"
    assert check_in(draft, "test", facts_for(staging, "test")) == []


def test_a_name_that_was_taken_stays_taken(staging: Session) -> None:
    removing.remove(staging, ADMIN, "staging")
    with pytest.raises(NotPossible, match=r"There was an environment 'staging' until .*Choose another one"):
        queries.make(staging, ADMIN, STAGING)
    for change in (lambda: queries.change(staging, ADMIN, STAGING), lambda: removing.remove(staging, ADMIN, "staging")):
        with pytest.raises(NotPossible, match="no environment 'staging'"):
            change()


def test_what_stands_in_the_way_is_told_and_nothing_is_ended(staging: Session) -> None:
    draft = drafting.load_configuration(staging)
    backend = draft.backends[0]
    alone = tuple(one.model_copy(update={"environments": ("staging",)}) for one in backend.targets)
    drafting.save(staging, ADMIN, "backend", backend.name, backend.model_copy(update={"targets": alone}), "")
    queries.put_in_order(staging, ADMIN, ["test", "production", "staging"])
    staging.commit()
    with pytest.raises(NotPossible) as caught:
        removing.remove(staging, ADMIN, "staging")
    for words in ("put another one at the end first", f"{backend.name} has targets for staging alone"):  # fmt: skip
        assert words in str(caught.value)
    staging.rollback()
    assert "staging" in queries.known(staging)
