"""Keeping alerts, and following them: measured every minute from the roll-ups, decided by the core, told by mail."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlmodel import Session, col, select

from tamarack.core.traffic.alert import (
    AILING,
    MINUTE,
    NO_CALLS,
    SILENT,
    WEEK,
    Event,
    Rule,
    State,
    mail_due,
    run,
    windows,
)
from tamarack.core.traffic.explore import Exploration
from tamarack.core.traffic.span import floored
from tamarack.core.traffic.totals import Totals
from tamarack.core.traffic.where import Where
from tamarack.store.alerts.tables import AlertEvent, AlertRow
from tamarack.store.audit.log import Actor, record
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.mail.tables import Mail
from tamarack.store.nodes.silences import silent
from tamarack.store.rollouts.target_changes import ailing
from tamarack.store.traffic.reading import Question, answer

SETTLES = timedelta(seconds=5)
"""How long after its end a minute is looked at: nodes write their records every half second."""
MOST_BEHIND = timedelta(hours=1)
"""How far back minutes are looked at that were missed; older ones are left out."""
MOST_ALERTS = 200

Values = list[tuple[datetime, float | None]]


def rule_of(row: AlertRow) -> Rule:
    """What an alert watches."""
    return Rule.model_validate(row.rule)


def alerts(session: Session) -> list[AlertRow]:
    """All alerts: raised ones first, then by title."""
    rows = session.exec(select(AlertRow)).all()
    order = ["raised", "easing", "rising", "calm"]
    return sorted(rows, key=lambda row: (order.index(row.state), str(row.rule.get("title", "")).lower()))


def save(session: Session, actor: Actor, rule: Rule, id: str = "") -> AlertRow:
    """Keep an alert. One whose rule changes begins calm. Raises NotPossible."""
    row = session.get(AlertRow, id) if id else None
    if id and row is None:
        raise NotPossible("There is no such alert any more.")
    if row is None:
        if len(session.exec(select(AlertRow.id)).all()) >= MOST_ALERTS:
            raise NotPossible(f"There are {MOST_ALERTS} alerts already; remove some first.")
        row = AlertRow(rule={}, owner=actor.name)
    elif row.state in ("raised", "easing"):
        session.add(AlertEvent(alert_id=row.id, what="over", at=now(), value=row.value))
    row.rule = rule.model_dump(mode="json")
    row.state, row.since, row.held, row.value, row.looked_at = "calm", None, 0, None, None
    row.changed_at = now()
    session.add(row)
    session.flush()
    record(session, actor, "save alert", f"alert {row.id}", rule=row.rule)
    return row


def pause(session: Session, actor: Actor, row: AlertRow, paused: bool) -> None:
    """Stop looking, or look again. A raised alert that is paused is over."""
    if paused and row.state in ("raised", "easing"):
        session.add(AlertEvent(alert_id=row.id, what="over", at=now(), value=row.value))
    row.paused, row.state, row.since, row.held, row.looked_at = paused, "calm", None, 0, None
    session.add(row)
    record(session, actor, "pause alert" if paused else "resume alert", f"alert {row.id}", title=row.rule["title"])


def remove(session: Session, actor: Actor, row: AlertRow) -> None:
    """Remove an alert with its history."""
    session.delete(row)
    record(session, actor, "remove alert", f"alert {row.id}", rule=row.rule)


def values(session: Session, rule: Rule, first: datetime, last: datetime) -> Values:
    """What a rule measures, for each minute that ends after `first`, up to `last`."""
    points = _points(session, rule, first, last)
    earlier = []
    if rule.compare == "change":
        earlier = [_points(session, rule, first - WEEK * back, last - WEEK * back) for back in range(1, rule.weeks + 1)]
    ends = [first + (place + 1) * MINUTE for place in range(len(points))]
    return [
        (end, rule.value_of(point, [weeks[place] for weeks in earlier if place < len(weeks)]))
        for place, (end, point) in enumerate(zip(ends, points, strict=True))
    ]


def _points(session: Session, rule: Rule, first: datetime, last: datetime) -> list[Totals]:
    """The totals of each minute's window."""
    where = (Where(field="environment", how="is", values=(rule.environment,)), *rule.where)
    histograms = {rule.measured.histogram} if rule.measured.histogram else set()
    start = first - (rule.window - 1) * MINUTE
    if rule.measure == AILING:
        ends = [first + MINUTE * (place + 1) for place in range(int((last - first) / MINUTE))]
        return [Totals(ailing=many) for many in ailing(session, rule.environment, ends, rule.window * MINUTE)]
    if rule.measure == SILENT:
        ends = [first + MINUTE * (place + 1) for place in range(int((last - first) / MINUTE))]
        return [Totals(silent=many) for many in silent(session, rule.environment, ends, rule.window * MINUTE)]
    if rule.measured.callers:  # different callers do not add up: each window is a question of its own
        found = []
        at = first + MINUTE
        while at <= last:
            asked = Question(at - rule.window * MINUTE, at, where, callers=True, sums=())
            found.append(answer(session, asked).groups[0].total)
            at += MINUTE
        return found
    asked = Question(start, last, where, step=MINUTE, histograms=histograms, sums=rule.measured.needs)
    return windows(answer(session, asked).groups[0].points, rule.window)


def look(session: Session, row: AlertRow, at: datetime) -> list[AlertEvent]:
    """Look at the minutes that ended since the last look; returns what is to be told of them."""
    rule = rule_of(row)
    last = floored(at - SETTLES, 60)
    first = max(floored(row.looked_at, 60) if row.looked_at else last - MINUTE, floored(at - MOST_BEHIND, 60))
    if first >= last or row.paused:
        return []
    before = State(row.state, row.since, row.held, row.value)  # type: ignore[arg-type]
    state, events = run(rule, before, values(session, rule, first, last))
    row.state, row.since, row.held, row.value, row.looked_at = state.name, state.since, state.held, state.value, last
    session.add(row)
    kept = [
        AlertEvent(alert_id=row.id, what=event.what, at=event.at, value=event.value,
                   mail_at=mail_due(rule, event) if rule.mail_to else None)
        for event in events
    ]  # fmt: skip
    session.add_all(kept)
    return kept


def tell(session: Session, at: datetime, page: str) -> int:
    """Mail what is due; `page` is the address of alerts. What was raised and over within quiet hours is one mail."""
    due = select(AlertEvent).where(col(AlertEvent.mail_at) <= at).order_by(col(AlertEvent.id)).limit(200)
    told = 0
    waiting = list(session.exec(due))
    for event in waiting:
        if event.mail_at is None:
            continue  # told together with the one before
        row = session.get(AlertRow, event.alert_id)
        event.mail_at = None
        session.add(event)
        if row is None:
            continue
        rule = rule_of(row)
        over = None
        if event.what == "raised":
            over = next((o for o in waiting if o.alert_id == row.id and o.what == "over" and o.at > event.at), None)
            if over is not None:
                over.mail_at = None
                session.add(over)
        text = in_words(rule, event, over) + f"\n{page}/{row.id}/\n"
        subject = f"{rule.title}: {'raised, and over again' if over is not None else event.what}"
        for address in rule.mail_to:
            session.add(Mail(to=address, subject=subject, text=text))
            told += 1
    return told


def in_words(rule: Rule, event: AlertEvent, over: AlertEvent | None = None) -> str:
    """What happened, as sentences."""
    said = f"{condition_in_words(rule)}.\n"
    said += f"{'Raised' if event.what == 'raised' else 'Over'} at {event.at:%d %b %Y %H:%M} UTC,"
    said += f" with {shown(rule, event.value)}.\n"
    if over is not None:
        said += f"Over at {over.at:%d %b %Y %H:%M} UTC, with {shown(rule, over.value)}.\n"
    return said


def condition_in_words(rule: Rule) -> str:
    """What a rule says, as a sentence without its end."""
    what = f"{rule.measured.title[0].upper()}{rule.measured.title[1:]} in {rule.environment}"
    if rule.where:
        what += " where " + " and ".join(str(one) for one in rule.where)
    if rule.compare == "change":
        what += f", against the same minutes of {rule.weeks} earlier week{'s' if rule.weeks > 1 else ''},"
    limit = shown(rule, rule.limit)
    many = f"{rule.window} minute{'s' if rule.window > 1 else ''}"
    return f"{what} {rule.side} {limit}, measured over {many}, for {rule.holds} minute{'s' if rule.holds > 1 else ''}"


def shown(rule: Rule, value: float | None) -> str:
    """A value in the unit of a rule."""
    if value is None:
        return "nothing to say"
    if rule.compare == "change":
        return f"{value:+.0%}"
    match rule.measured.unit:
        case "share":
            return f"{value * 100:.3g} %"
        case "time":
            return f"{value / 1000:.4g} ms"
        case "bytes":
            return f"{value:,.0f} bytes"
        case _:
            return f"{value:,.4g}"


@dataclass(frozen=True, slots=True)
class Raised:
    """A stretch in which an alert was raised; still is, where it has no end."""

    alert_id: str
    title: str
    environment: str
    first: datetime
    last: datetime | None


def raised_between(session: Session, first: datetime, last: datetime, alert_id: str = "") -> list[Raised]:
    """The stretches, in a span, in which alerts were raised."""
    query = select(AlertEvent).where(col(AlertEvent.at) < last).order_by(col(AlertEvent.at))
    if alert_id:
        query = query.where(AlertEvent.alert_id == alert_id)
    rows = {row.id: rule_of(row) for row in session.exec(select(AlertRow))}
    begun: dict[str, datetime] = {}
    found: list[Raised] = []

    def keep(id: str, until: datetime | None) -> None:
        if (until is None or until >= first) and id in rows:
            found.append(Raised(id, rows[id].title, rows[id].environment, begun[id], until))

    for event in session.exec(query.where(col(AlertEvent.at) >= first - timedelta(days=60))):
        if event.what == "raised":
            begun[event.alert_id] = event.at
        elif event.alert_id in begun:
            keep(event.alert_id, event.at)
            del begun[event.alert_id]
    for id in begun:
        keep(id, None)
    return sorted(found, key=lambda one: one.first)


def history(session: Session, alert_id: str, most: int = 50) -> Sequence[AlertEvent]:
    """What an alert told, the newest first."""
    query = select(AlertEvent).where(AlertEvent.alert_id == alert_id).order_by(col(AlertEvent.id).desc())
    return session.exec(query.limit(most)).all()


def rehearsed(session: Session, rule: Rule, first: datetime, last: datetime) -> tuple[Values, list[Event]]:
    """What a rule would have measured and told in a span."""
    found = values(session, rule, first, last)
    return found, run(rule, State(), found)[1]


def exploration_of(rule: Rule) -> Exploration | None:
    """The question behind a rule; None where it is none of calls."""
    if rule.measure in NO_CALLS:
        return None
    where = (Where(field="environment", how="is", values=(rule.environment,)), *rule.where)
    against = "week" if rule.compare == "change" else ""
    return Exploration(measure=rule.measure, where=where, span="day", picture="line", against=against)
