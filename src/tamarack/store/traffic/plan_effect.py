"""What a plan would do to those who are on it: who called more lately than it lets through."""

from dataclasses import dataclass

from sqlmodel import Session, select

from tamarack.core.configuration.plans import Plan
from tamarack.core.limits.window import Window
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.people.tables import Organization
from tamarack.store.quotas import queries as quotas
from tamarack.store.traffic import peaks


@dataclass(frozen=True, slots=True)
class Above:
    """A window of a plan, the most that a subscriber called in one lately, and the most that it lets through."""

    window: Window
    place: str
    calls: int
    allowed: int

    @property
    def over(self) -> bool:
        """Whether calls would have been refused."""
        return self.calls > self.allowed


@dataclass(frozen=True, slots=True)
class Effect:
    """A subscriber of a plan, its peak in each of its windows, and the use of its quota: used, allowed."""

    application: Application
    organization: Organization
    subscription: Subscription
    windows: tuple[Above, ...]
    quota: tuple[int, int] | None

    @property
    def over(self) -> bool:
        """Whether it is above the plan now."""
        return any(one.over for one in self.windows) or (self.quota is not None and self.quota[0] > self.quota[1])


def effect_of(session: Session, product: str, old_name: str, plan: Plan) -> list[Effect]:
    """The subscribers of `old_name`, as `plan` would find them; those above it first."""
    query = (
        select(Subscription, Application, Organization)
        .where(Subscription.application_id == Application.id, Application.organization_id == Organization.id)
        .where(Subscription.product == product, Subscription.plan == old_name, Subscription.state != "ended")
        .order_by(Organization.title, Application.title, Subscription.environment)
    )
    rows = session.exec(query).all()
    found = []
    by_window = _peaks(session, product, old_name, plan, {row[0].environment for row in rows})
    for subscription, application, organization in rows:
        who = (subscription.environment, organization.name, application.name)
        windows = tuple(
            Above(window, place, calls.get(who, 0), peaks.peak_window(window)[1]) for place, window, calls in by_window
        )
        use = quotas.use_of(session, subscription, plan)
        found.append(
            Effect(
                application, organization, subscription, windows, (use[0], use[1].limit) if use is not None else None
            )
        )
    return sorted(found, key=lambda effect: not effect.over)


def _peaks(
    session: Session, product: str, name: str, plan: Plan, environments: set[str]
) -> list[tuple[str, Window, dict[tuple[str, str, str], int]]]:
    found = []
    parts = [("", plan.limits), *((part.place, part.limits) for part in plan.parts)]
    for place, limits in parts:
        api, _, call = place.partition(" ")
        for window in limits:
            seconds = peaks.peak_window(window)[0]
            calls = {
                (environment, peak.organization, peak.application): peak.calls
                for environment in sorted(environments)
                for peak in peaks.peaks(session, environment, seconds, plan=f"{product}/{name}", most=5000,
                                        api=api, call=call)
            }  # fmt: skip
            found.append((place, window, calls))
    return found
