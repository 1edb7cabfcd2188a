"""Issuing statements, and adjusting them until then: one after the other, so that no adjustment is lost on the way."""

from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation

from sqlalchemy import text
from sqlmodel import Session, col, select

from tamarack.core.configuration.model import Configuration
from tamarack.core.traffic.statement import Statement
from tamarack.store.audit.log import Actor, record
from tamarack.store.errors import NotPossible
from tamarack.store.people.tables import Organization
from tamarack.store.statements.queries import TOGETHER, issued, statements
from tamarack.store.statements.tables import IssuedStatement, StatementAdjustment

MOST_AMOUNT = Decimal("1000000000")


@dataclass(slots=True)
class Issued:
    """What came of issuing a month for everybody."""

    many: int = 0
    left: list[str] = field(default_factory=list)
    """The titles of organizations whose statement has a plan without a price: somebody has to look at it."""


def _lock(session: Session) -> None:
    session.connection().execute(text("SELECT pg_advisory_xact_lock(hashtext('tamarack statements'))"))


def _is_issued(session: Session, organization: Organization, month: str) -> bool:
    return organization.name in issued(session, [organization], month)


def issue(
    session: Session, actor: Actor, offered: Configuration, organization: Organization, month: str
) -> IssuedStatement:
    """Issue an organization's month as it stands now, for good. Raises NotPossible."""
    _lock(session)
    made = statements(session, offered, [organization], month)[organization.name]
    _ended(made)
    if _is_issued(session, organization, month):
        raise NotPossible(f"The statement of {month} was issued already, and can no longer be changed.")
    return _issue(session, actor, made, organization)


def issue_all(session: Session, actor: Actor, offered: Configuration, month: str) -> Issued:
    """Issue a month for every organization that has something on its statement, and none issued yet. Those with a plan
    that has no price any more are left. Raises NotPossible."""
    _lock(session)
    everybody = session.exec(select(Organization).order_by(col(Organization.title))).all()
    found = Issued()
    for place in range(0, len(everybody), TOGETHER):
        group = everybody[place : place + TOGETHER]
        kept = issued(session, group, month)
        made = statements(session, offered, [one for one in group if one.name not in kept], month)
        for organization in group:
            statement = made.get(organization.name)
            if statement is None:
                continue
            _ended(statement)
            if statement.unpriced:
                found.left.append(organization.title)
            elif not statement.is_empty:
                _issue(session, actor, statement, organization)
                found.many += 1
    return found


def _ended(made: Statement) -> None:
    if not made.ended:
        raise NotPossible(f"{made.month} is not over; its statement can be issued from the first of the next month on.")


def _issue(session: Session, actor: Actor, made: Statement, organization: Organization) -> IssuedStatement:
    body = made.as_data()
    kept = IssuedStatement(organization_id=organization.id, month=made.month, body=body, issued_by=actor.name)
    session.add(kept)
    record(session, actor, "issue statement", f"{organization.name} {made.month}", totals=body["totals"])
    return kept


def adjust(
    session: Session, actor: Actor, organization: Organization, month: str, words: str, amount: str, currency: str
) -> None:
    """Add an amount to a month, or take it off (below 0). Raises NotPossible."""
    _lock(session)
    if _is_issued(session, organization, month):
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
    _lock(session)
    kept = session.get(StatementAdjustment, id)
    if kept is None or kept.organization_id != organization.id or kept.month != month:
        raise NotPossible("There is no such adjustment.")
    if _is_issued(session, organization, month):
        raise NotPossible(f"The statement of {month} was issued, and can no longer be changed.")
    session.delete(kept)
    record(session, actor, "take back adjustment", f"{organization.name} {month}", amount=str(kept.amount),
           words=kept.words)  # fmt: skip
