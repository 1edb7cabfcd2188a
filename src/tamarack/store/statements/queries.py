"""Making statements: use from the roll-ups, days from the subscriptions' periods, prices from the core."""

from datetime import UTC, datetime, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any

from sqlalchemy import text
from sqlmodel import Session, col, select

from tamarack.core.configuration.model import Configuration
from tamarack.core.traffic.statement import Adjustment, Statement, Use, make_statement, month_of
from tamarack.core.traffic.where import Where
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit.log import Actor, record
from tamarack.store.columns import now
from tamarack.store.environments.queries import known
from tamarack.store.errors import NotPossible
from tamarack.store.people.tables import Organization
from tamarack.store.statements.tables import IssuedStatement, StatementAdjustment, SubscriptionPeriod
from tamarack.store.traffic.reading import Question, answer

MOST_LINES = 100_000
MOST_AMOUNT = Decimal("1000000000")


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


def days_in_force(session: Session, organization: Organization, month: str) -> dict[tuple[str, str], int]:
    """On how many days of a month (of UTC) each application was on a plan, for any part of the day."""
    first, last = month_of(month)
    last = min(last, max(first, now()))
    query = (
        select(Application.name, Subscription.product, SubscriptionPeriod)
        .where(Application.organization_id == organization.id, Subscription.application_id == Application.id)
        .where(SubscriptionPeriod.subscription_id == Subscription.id, Subscription.environment == charged_in(session))
        .where(SubscriptionPeriod.first < last)
        .where(col(SubscriptionPeriod.last).is_(None) | (col(SubscriptionPeriod.last) > first))
    )
    touched: dict[tuple[str, str], set[int]] = {}
    for application, product, period in session.exec(query):
        start = max(period.first, first)
        end = min(period.last or last, last)
        days = range(
            start.astimezone(UTC).toordinal(), (end - timedelta(microseconds=1)).astimezone(UTC).toordinal() + 1
        )
        touched.setdefault((application, f"{product}/{period.plan}"), set()).update(days)
    return {key: len(days) for key, days in touched.items()}


def uses(session: Session, organization: Organization, month: str) -> list[Use]:
    """What an organization's applications used in a month."""
    first, last = month_of(month)
    where = [Where(field="environment", how="is", values=(charged_in(session),)),
             Where(field="organization", how="is", values=(organization.name,))]  # fmt: skip
    asked = Question(first, last, where, ("application", "plan", "api", "model"), most=MOST_LINES,
                     sums=("refused", "failed", "prompt_tokens", "completion_tokens"))  # fmt: skip
    found = []
    for group in answer(session, asked).groups:
        if group.key is None:
            raise NotPossible(f"The month has more than {MOST_LINES:,} lines; a statement cannot tell them all.")
        application, plan, api, model = group.key
        total = group.total
        found.append(Use(application, plan, api, total.calls, total.refused, total.failed, total.prompt_tokens,
                         total.completion_tokens, model))  # fmt: skip
    return found


def adjustments(session: Session, organization: Organization, month: str) -> list[StatementAdjustment]:
    """The amounts that were adjusted, in their order."""
    query = select(StatementAdjustment).where(
        StatementAdjustment.organization_id == organization.id, StatementAdjustment.month == month
    )
    return list(session.exec(query.order_by(col(StatementAdjustment.id))))


def statement(session: Session, offered: Configuration, organization: Organization, month: str) -> Statement:
    """An organization's month as it stands now. `offered` is what runs where calls are charged. Raises ValueError."""
    plans = {f"{product.name}/{plan.name}": plan for product in offered.products for plan in product.plans}
    _, last = month_of(month)
    return make_statement(
        organization.name,
        organization.title,
        month,
        last <= now(),
        uses(session, organization, month),
        plans,
        days_in_force(session, organization, month),
        [
            Adjustment(one.words, one.amount, one.currency, one.made_by)
            for one in adjustments(session, organization, month)
        ],
    )


def issued(session: Session, organization: Organization, month: str) -> IssuedStatement | None:
    """The month's statement as it was issued; None where it was not yet."""
    query = select(IssuedStatement).where(
        IssuedStatement.organization_id == organization.id, IssuedStatement.month == month
    )
    return session.exec(query).first()


def issue(session: Session, actor: Actor, made: Statement, organization: Organization) -> IssuedStatement:
    """Issue a month's statement, for good. Raises NotPossible."""
    if not made.ended:
        raise NotPossible(f"{made.month} is not over; its statement can be issued from the first of the next month on.")
    if issued(session, organization, made.month) is not None:
        raise NotPossible(f"The statement of {made.month} was issued already, and can no longer be changed.")
    kept = IssuedStatement(organization_id=organization.id, month=made.month, body=made.as_data(), issued_by=actor.name)
    session.add(kept)
    record(session, actor, "issue statement", f"{organization.name} {made.month}", totals=made.as_data()["totals"])
    return kept


def adjust(
    session: Session, actor: Actor, organization: Organization, month: str, words: str, amount: str, currency: str
) -> None:
    """Add an amount to a month, or take it off (below 0). Raises NotPossible."""
    if issued(session, organization, month) is not None:
        raise NotPossible(f"The statement of {month} was issued; adjust the month after it.")
    try:
        found = Decimal(amount.strip().replace(",", ".").replace(" ", ""))
    except InvalidOperation:
        raise NotPossible(f"{amount!r} is not an amount; write it like 12.50, or -12.50 to take it off.") from None
    if not found.is_finite() or not found or abs(found) > MOST_AMOUNT or found != found.quantize(Decimal("0.001")):
        raise NotPossible(f"{amount!r} is not an amount; it is not 0, and has at most three places after the point.")
    if not 1 <= len(words.strip()) <= 200:
        raise NotPossible("Say what the amount is for, in at most 200 characters.")
    if not (len(currency) == 3 and currency.isalpha() and currency.isupper()):
        raise NotPossible(f"{currency!r} is not a currency; write its code of ISO 4217, like EUR.")
    session.add(
        StatementAdjustment(organization_id=organization.id, month=month, words=words.strip(), amount=found,
                            currency=currency, made_by=actor.name)
    )  # fmt: skip
    record(session, actor, "adjust statement", f"{organization.name} {month}", amount=str(found), currency=currency,
           words=words.strip())  # fmt: skip


def take_back(session: Session, actor: Actor, organization: Organization, month: str, id: int) -> None:
    """Remove an adjustment of a month that was not issued. Raises NotPossible."""
    kept = session.get(StatementAdjustment, id)
    if kept is None or kept.organization_id != organization.id or kept.month != month:
        raise NotPossible("There is no such adjustment.")
    if issued(session, organization, month) is not None:
        raise NotPossible(f"The statement of {month} was issued, and can no longer be changed.")
    session.delete(kept)
    record(session, actor, "take back adjustment", f"{organization.name} {month}", amount=str(kept.amount),
           words=kept.words)  # fmt: skip


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
