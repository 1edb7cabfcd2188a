"""Making the statements of a month: use from roll-ups, days from the periods of subscriptions, prices from the core."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import text
from sqlmodel import Session, col, func, select

from tamarack.core.configuration.model import Configuration
from tamarack.core.traffic.statement import Adjustment, Statement, Use, make_statement, month_of
from tamarack.core.traffic.where import MOST_VALUES, Where
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.columns import now
from tamarack.store.environments.queries import known
from tamarack.store.errors import NotPossible
from tamarack.store.people.tables import Organization
from tamarack.store.statements.tables import IssuedStatement, StatementAdjustment, SubscriptionPeriod
from tamarack.store.traffic.reading import Question, answer

MOST_LINES = 100_000
TOGETHER = MOST_VALUES
"""Organizations that are asked for at once."""


def charged_in(session: Session) -> str:
    """The environment whose calls are charged: the live one. Those of others stand in no statement."""
    return known(session).live


def note_period(session: Session, subscription: Subscription) -> None:
    """Keep since when, and until when, a subscription is active on its plan. Called with every change of either."""
    query = select(SubscriptionPeriod).where(
        SubscriptionPeriod.subscription_id == subscription.id, col(SubscriptionPeriod.last).is_(None)
    )
    running = session.exec(query).first()
    active = subscription.state == "active"
    if running is not None and (not active or running.plan != subscription.plan):
        running.last = now()
        session.add(running)
    if active and (running is None or running.plan != subscription.plan):
        session.add(SubscriptionPeriod(subscription_id=subscription.id, plan=subscription.plan))


def days_in_force(
    session: Session, organizations: Sequence[Organization], month: str
) -> dict[str, dict[tuple[str, str], int]]:
    """On how many days of a month (of UTC) each application was on a plan, for any part of the day; by organization's
    name."""
    first, last = month_of(month)
    last = min(last, max(first, now()))
    query = (
        select(Organization.name, Application.name, Subscription.product, SubscriptionPeriod)
        .where(Application.organization_id == Organization.id, Subscription.application_id == Application.id)
        .where(SubscriptionPeriod.subscription_id == Subscription.id, Subscription.environment == charged_in(session))
        .where(col(Organization.id).in_([one.id for one in organizations]), SubscriptionPeriod.first < last)
        .where(col(SubscriptionPeriod.last).is_(None) | (col(SubscriptionPeriod.last) > first))
    )
    touched: dict[str, dict[tuple[str, str], set[int]]] = {one.name: {} for one in organizations}
    for organization, application, product, period in session.exec(query):
        start = max(period.first, first)
        end = min(period.last or last, last)
        days = range(
            start.astimezone(UTC).toordinal(), (end - timedelta(microseconds=1)).astimezone(UTC).toordinal() + 1
        )
        touched[organization].setdefault((application, f"{product}/{period.plan}"), set()).update(days)
    return {name: {key: len(days) for key, days in mine.items()} for name, mine in touched.items()}


def uses(session: Session, organizations: Sequence[Organization], month: str) -> dict[str, list[Use]]:
    """What the applications of organizations used in a month; by organization's name."""
    first, last = month_of(month)
    names = tuple(one.name for one in organizations)
    where = [Where(field="environment", how="is", values=(charged_in(session),)),
             Where(field="organization", how="is", values=names)]  # fmt: skip
    most = MOST_LINES * len(names)
    asked = Question(first, last, where, ("organization", "application", "plan", "api", "model"), most=most,
                     sums=("refused", "failed", "prompt_tokens", "completion_tokens"))  # fmt: skip
    found: dict[str, list[Use]] = {name: [] for name in names}
    for group in answer(session, asked).groups:
        if group.key is None:
            raise NotPossible(f"The month has more than {most:,} lines; its statements cannot tell them all.")
        organization, application, plan, api, model = group.key
        total = group.total
        found[organization].append(Use(application, plan, api, total.calls, total.refused, total.failed,
                                       total.prompt_tokens, total.completion_tokens, model))  # fmt: skip
    return found


def _adjusted(session: Session, organizations: Sequence[Organization], month: str) -> dict[str, list[Any]]:
    query = select(StatementAdjustment).where(
        col(StatementAdjustment.organization_id).in_([one.id for one in organizations]),
        StatementAdjustment.month == month,
    )
    found: dict[str, list[Any]] = {one.id: [] for one in organizations}
    for adjustment in session.exec(query.order_by(col(StatementAdjustment.id))):
        found[adjustment.organization_id].append(adjustment)
    return found


def adjustments(session: Session, organization: Organization, month: str) -> list[StatementAdjustment]:
    """The amounts that were adjusted, in their order."""
    return _adjusted(session, [organization], month)[organization.id]


def statements(
    session: Session, offered: Configuration, organizations: Sequence[Organization], month: str
) -> dict[str, Statement]:
    """The month of up to `TOGETHER` organizations as it stands now, by their names. `offered` is what runs where calls
    are charged. Raises ValueError."""
    plans = {f"{product.name}/{plan.name}": plan for product in offered.products for plan in product.plans}
    _, last = month_of(month)
    if not organizations:
        return {}
    used, days = uses(session, organizations, month), days_in_force(session, organizations, month)
    adjusted = _adjusted(session, organizations, month)
    return {
        one.name: make_statement(
            one.name,
            one.title,
            month,
            last <= now(),
            used[one.name],
            plans,
            days[one.name],
            [Adjustment(each.words, each.amount, each.currency, each.made_by) for each in adjusted[one.id]],
        )
        for one in organizations
    }


def issued(session: Session, organizations: Sequence[Organization], month: str) -> dict[str, IssuedStatement]:
    """The month's statements that were issued, by their organizations' names."""
    names = {one.id: one.name for one in organizations}
    query = select(IssuedStatement).where(
        col(IssuedStatement.organization_id).in_(names), IssuedStatement.month == month
    )
    return {names[one.organization_id]: one for one in session.exec(query)}


def not_issued(session: Session, month: str) -> int:
    """How many organizations have no statement issued of a month."""
    kept = select(IssuedStatement.organization_id).where(IssuedStatement.month == month)
    return session.exec(select(func.count()).where(col(Organization.id).not_in(kept))).one()


def bodies(
    session: Session, offered: Configuration, organizations: Sequence[Organization], month: str
) -> list[tuple[Organization, IssuedStatement | None, dict[str, Any]]]:
    """The statements of a month as data, in the order of their organizations: as they were issued, or as they stand
    now. Raises ValueError."""
    kept = issued(session, organizations, month)
    made = statements(session, offered, [one for one in organizations if one.name not in kept], month)
    return [
        (one, kept.get(one.name), kept[one.name].body if one.name in kept else made[one.name].as_data())
        for one in organizations
    ]


def months(session: Session) -> list[str]:
    """The months that something was recorded in, the newest first."""
    row: Any = session.connection().execute(text("SELECT min(start) FROM rollup_day")).scalar()
    first: datetime = row or now()
    found: list[str] = []
    at = now().astimezone(UTC).replace(day=1)
    while f"{at:%Y-%m}" >= f"{first.astimezone(UTC):%Y-%m}" and len(found) < 120:
        found.append(f"{at:%Y-%m}")
        at = (at - timedelta(days=1)).replace(day=1)
    return found
