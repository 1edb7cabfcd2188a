"""Filling an empty installation with the demo: once, from the shipped configuration and the made-up world."""

import re
import secrets
from dataclasses import replace
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path

import psycopg
from sqlalchemy import Engine
from sqlmodel import Session, func, select

from tamarack.config.documents import keep_documents
from tamarack.config.files import Loaded, load
from tamarack.core.configuration.model import Configuration
from tamarack.core.life_cycle.brown_outs import BrownOut
from tamarack.core.openapi.read import describe
from tamarack.core.traffic import otlp
from tamarack.core.traffic.alert import Rule
from tamarack.demo.harbour_office import ISSUER
from tamarack.demo.life_cycle import tell_of_versions
from tamarack.demo.past import Past, PastCaller, kept_past, load_past
from tamarack.demo.places import COLLECTOR, VISITOR_SCREEN
from tamarack.demo.portal import furnish
from tamarack.demo.sign_in import open_sign_in
from tamarack.demo.world import ORGANIZATIONS, STAFF, DemoApplication, DemoOrganization
from tamarack.settings import Settings
from tamarack.store.alerts import queries as alerting
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials as credentials_of
from tamarack.store.applications import sharing
from tamarack.store.applications.credentials import Wanted
from tamarack.store.applications.tables import Credential, Subscription
from tamarack.store.audit.log import COMMAND_LINE, Actor
from tamarack.store.draft import queries as drafting
from tamarack.store.export import queries as exporting
from tamarack.store.feed import items as feeding
from tamarack.store.people.passwords import hash_password
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Organization, Person
from tamarack.store.quotas import queries as quotas
from tamarack.store.rollouts import queries as rolling
from tamarack.store.secrets.queries import set_secret
from tamarack.store.statements.tables import SubscriptionPeriod
from tamarack.store.traffic.tables import CallRow

CONFIGURATION = Path(__file__).parent / "configuration"
_SHIPPED_BASE = 7400
_LOOPBACK = re.compile(r"(http://127\.0\.0\.1:)([0-9]+)")


def is_seeded(engine: Engine) -> bool:
    """Whether the installation holds anything."""
    with Session(engine) as session:
        return session.exec(select(Staff)).first() is not None


def shipped_configuration(port_base: int) -> Loaded:
    """The demo's configuration: its targets at this installation's ports, the days of an end around today."""
    loaded = load(CONFIGURATION)
    text = loaded.configuration.model_dump_json()
    moved = _LOOPBACK.sub(lambda found: f"{found[1]}{int(found[2]) + port_base - _SHIPPED_BASE}", text)
    configuration = Configuration.model_validate_json(moved)
    return replace(loaded, configuration=_ending_soon(configuration, datetime.now(UTC).date()))


def _ending_soon(configuration: Configuration, today: date) -> Configuration:
    """What is deprecated is so for three weeks, and answers for three months more, with two brown-outs at the end."""
    outs = tuple(
        BrownOut(at=datetime.combine(today + timedelta(days=days), time(hour), UTC), minutes=minutes)
        for days, hour, minutes in ((71, 9, 15), (85, 13, 60))
    )
    days = {
        "deprecated_on": today - timedelta(days=23),
        "sunset_on": today + timedelta(days=92),
        "brown_outs": outs,
    }
    apis = tuple(
        api.model_copy(
            update={
                "versions": tuple(
                    version.model_copy(update=days) if version.deprecated_on is not None else version
                    for version in api.versions
                )
            }
        )
        for api in configuration.apis
    )
    return configuration.model_copy(update={"apis": apis})


def waiting_past(home: Path) -> Path:
    """Where the past waits to be loaded."""
    return home / "demo" / "past.json"


def seed(engine: Engine, settings: Settings) -> None:
    """Fill an empty installation. Its past is written down, to be loaded by `load_waiting_past`."""
    keys = settings.home / "demo"
    keys.mkdir(parents=True, exist_ok=True, mode=0o700)
    with Session(engine) as session:
        loaded = shipped_configuration(settings.port_base)
        keep_documents(session, loaded, describe)
        for name, summary in _SECRETS.items():
            value = secrets.token_urlsafe(24)
            hosts = _hosts_of(loaded.configuration, name)
            sealing = settings.keys.credentials.sealing
            set_secret(session, COMMAND_LINE, sealing, name, value, summary=summary, hosts=hosts)
            _keep(keys / f"{name}.secret", value)
        _keep(keys / "harbour-office.secret", secrets.token_urlsafe(24))
        drafting.replace_all(session, COMMAND_LINE, loaded.configuration, remove_others=True)
        rolling.roll_out(session, COMMAND_LINE, "test", "the demo's configuration")
        rollout = rolling.roll_out(session, COMMAND_LINE, "production", "the demo's configuration")
        for person in STAFF:
            hashed = hash_password(person.password)
            session.add(Staff(email=person.email, name=person.name, role=person.role, password_hash=hashed))
        callers: list[PastCaller] = []
        for place, organization in enumerate(ORGANIZATIONS):
            callers += _organization(session, settings, loaded.configuration, organization, keys, place)
        collector = f"http://127.0.0.1:{settings.stand_in_port(COLLECTOR)}{otlp.PATH}"
        exporting.set_up(session, COMMAND_LINE, collector, True, "", "")
        _watch(session)
        _begin_earlier(session, settings.demo_days)
        furnish(session, loaded.configuration, settings.portal_url)
        open_sign_in(session, settings)
        tell_of_versions(session, loaded.configuration, settings.portal_url)
        targets = {
            backend.name + (", second" if place else ""): target.address.partition("://")[2]
            for backend in loaded.configuration.backends
            for place, target in enumerate(backend.targets[:2])
        }
        past = Past(callers, targets, rollout.number or 0, datetime.now(UTC), settings.demo_days)
        past.keep(waiting_past(settings.home))
        session.commit()


def load_waiting_past(engine: Engine, settings: Settings) -> int:
    """Load the past that waits, with what it used of the quotas; returns the number of calls."""
    path = waiting_past(settings.home)
    past = kept_past(path)
    if past is None:
        return 0
    with psycopg.connect(settings.database, autocommit=True) as connection:
        many = load_past(connection, past)
        connection.execute("ANALYZE")
    with Session(engine) as session:
        offered = rolling.running_configuration(session, "production")
        quotas.take_in_use(session, "demo-past-quotas", "demo", _quotas_used(session, offered, past.until))
        session.commit()
    path.unlink()
    return many


def _watch(session: Session) -> None:
    """Three alerts of the platform's admin."""
    admin = Actor(STAFF[0].email, COMMAND_LINE.door)
    for rule in (
        {"title": "Fares answers slowly", "measure": "p95", "where": ["api is fares"], "limit": 400_000, "window": 10,
         "least_calls": 10, "mail_to": [STAFF[0].email],
         "quiet": {"first": "22:00", "last": "06:00", "zone": "Europe/Oslo"}},
        {"title": "A target is not well", "measure": "targets not well", "limit": 0, "window": 1, "holds": 1},
        {"title": "Twice as many refusals as usual", "measure": "refused", "compare": "change", "limit": 1.0,
         "window": 30, "least_calls": 50, "mail_to": [STAFF[0].email]},
    ):  # fmt: skip
        alerting.save(session, admin, Rule.model_validate(rule))


def _begin_earlier(session: Session, days: int) -> None:
    """The subscriptions are older than the calls that were made under them."""
    before = timedelta(days=days + 30)
    for subscription in session.exec(select(Subscription)):
        subscription.made_at -= before
        session.add(subscription)
        feeding.publish_subscription(session, subscription)
    for period in session.exec(select(SubscriptionPeriod)):
        period.first -= before
        session.add(period)


def _quotas_used(session: Session, offered: Configuration, until: datetime) -> list[quotas.Row]:
    """What the past calls used of the quotas whose stretches are running."""
    used: list[quotas.Row] = []
    for subscription in session.exec(select(Subscription).where(Subscription.environment == "production")):
        product = offered.product(subscription.product)
        plan = product.plan(subscription.plan) if product is not None else None
        if plan is None or plan.quota is None:
            continue
        stretch = quotas.stretch_of(subscription, plan.quota)
        first = datetime.fromtimestamp(stretch.start, UTC)
        answered = select(func.count()).where(CallRow.subscription == subscription.id, CallRow.at >= first,
                                              CallRow.at < until, CallRow.reason == "")  # fmt: skip
        calls = session.exec(answered).one()
        name, key = f"@quota/{subscription.product}", quotas.key_of(subscription)
        used.append((subscription.environment, name, key, stretch.start, stretch.end, stretch.limit, calls))
    return used


def _organization(
    session: Session,
    settings: Settings,
    offered: Configuration,
    described: DemoOrganization,
    keys: Path,
    place: int,
) -> list[PastCaller]:
    organization = Organization(name=described.name, title=described.title, kind=described.kind)
    session.add(organization)
    session.flush()
    people = [
        Person(
            organization_id=organization.id,
            email=person.email,
            name=person.name,
            role=person.role,
            password_hash=hash_password(person.password),
        )
        for person in described.people
    ]
    session.add_all(people)
    session.flush()
    callers = []
    for number, wanted in enumerate(described.applications):
        application = subscribing.make_application(
            session, COMMAND_LINE, organization, wanted.title, wanted.description
        )
        for person in people:
            if person.role == "member" and number == 0:
                sharing.share_with(session, COMMAND_LINE, application, person)
        if wanted.groups:
            subscribing.set_application_groups(session, COMMAND_LINE, application, wanted.groups)
        credentials: dict[str, Credential] = {}
        subscriptions: dict[str, Subscription] = {}
        for environment in wanted.environments:
            made = credentials_of.make_credential(
                session, COMMAND_LINE, settings.keys.credentials, application, environment, _wanted(wanted, settings)
            )
            credentials[environment] = made.credential
            if made.value:
                _keep(keys / f"{application.name}.{environment}.key", made.value)
            for product, plan in wanted.subscriptions:
                subscription = subscribing.subscribe(
                    session, COMMAND_LINE, offered, application, product, plan, environment
                )
                if subscription.state == "pending":
                    subscribing.set_subscription_state(session, COMMAND_LINE, subscription, "active")
                if environment == "production":
                    subscriptions[product] = subscription
        callers.append(
            PastCaller(
                organization=organization.name,
                application=application.name,
                weight=wanted.weight,
                credential=credentials["production"].id,
                subscriptions={p: (s.id, f"{p}/{s.plan}") for p, s in subscriptions.items()},
                address=f"192.0.2.{10 * place + number + 1}",
            )
        )
    return callers


_SECRETS = {"harbour-register": "What the gateway shows to the harbour office's berth register"}
"""Secrets that the demo's configuration names, and what they are for."""


def _hosts_of(configuration: Configuration, secret: str) -> list[str]:
    """Where the demo's backends that are shown a secret stand."""
    targets = [t.address for one in configuration.backends for t in one.targets if one.secret_at(t) == secret]
    return [address.partition("://")[2].partition("/")[0] for address in targets]


def _wanted(application: DemoApplication, settings: Settings) -> Wanted:
    """The credential of a demo application."""
    if application.outside:
        return Wanted("outside-identity", "harbour office", issuer=ISSUER, name=application.outside)
    if application.on_page:
        return Wanted(label="on the page", sites=(f"http://127.0.0.1:{settings.stand_in_port(VISITOR_SCREEN)}",))
    return Wanted(label="first key")


def _keep(path: Path, value: str) -> None:
    """The demo's own copy of a key or secret; a real installation keeps none in the clear."""
    path.touch(mode=0o600)
    path.write_text(value)
