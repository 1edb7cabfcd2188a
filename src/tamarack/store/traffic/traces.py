"""Keeping traces, and saying which live calls are traced."""

from datetime import UTC, datetime, timedelta
from typing import Any

from psycopg.types.json import Jsonb
from sqlmodel import Session, col, select

from tamarack.store.applications.tables import Application
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.feed import items as feeding
from tamarack.store.traffic.trace_table import Trace, TraceShare, TraceWatch

MOST_SHARE = 0.1
"""More than every tenth call is not traced for good: it costs the node time."""
LONGEST_WATCH = timedelta(hours=1)


INSERT_TRACE = (
    "INSERT INTO trace (call, at, environment, application, by, body)"
    " VALUES (%s, %s, %s, %s, %s, %s) ON CONFLICT (call) DO NOTHING"
)


def trace_row(body: dict[str, Any]) -> tuple[Any, ...]:
    """A trace that a node recorded, as the values of `INSERT_TRACE`; one that comes a second time changes nothing."""
    at = datetime.fromtimestamp(body["at"], UTC)
    return body["call"], at, body["environment"], body["application"], body["by"], Jsonb(body)


def trace_of(session: Session, call: str) -> Trace | None:
    """The trace of a call, or None where none was kept."""
    return session.get(Trace, call)


def latest(session: Session, environment: str, most: int = 30) -> list[Trace]:
    """The newest traces of an environment."""
    query = select(Trace).where(Trace.environment == environment).order_by(col(Trace.at).desc()).limit(most)
    return list(session.exec(query))


def share(session: Session, environment: str) -> float:
    """The share of live calls that is traced."""
    found = session.get(TraceShare, environment)
    return found.share if found is not None else 0.0


def set_share(session: Session, actor: Actor, environment: str, wanted: float) -> None:
    """Trace a share of an environment's live calls."""
    if not 0 <= wanted <= MOST_SHARE:
        raise NotPossible(f"A share of {wanted:.2%} is not possible; choose 0 to {MOST_SHARE:.0%}.", "share")
    found = session.get(TraceShare, environment) or TraceShare(environment=environment)
    found.share = wanted
    session.add(found)
    session.flush()
    publish(session, environment)
    auditing.record(session, actor, "trace share", environment, share=wanted)


def watches(session: Session, environment: str) -> list[tuple[TraceWatch, Application]]:
    """The applications that are watched now."""
    query = (
        select(TraceWatch, Application)
        .where(TraceWatch.application_id == Application.id, TraceWatch.environment == environment)
        .where(col(TraceWatch.until) > now())
        .order_by(Application.title)
    )
    return list(session.exec(query))


def watch(session: Session, actor: Actor, environment: str, application: Application, lasts: timedelta) -> TraceWatch:
    """Trace all calls of an application for a time; no time ends it."""
    if not timedelta(0) <= lasts <= LONGEST_WATCH:
        raise NotPossible("An application is watched for at most an hour at a time.", "minutes")
    found = session.get(TraceWatch, (environment, application.id))
    if found is None:
        found = TraceWatch(environment=environment, application_id=application.id)
    found.until, found.by = now() + lasts, actor.name
    session.add(found)
    session.flush()
    publish(session, environment)
    action = "watch" if lasts else "stop watching"
    auditing.record(session, actor, action, application.name, environment=environment, until=found.until.isoformat())
    return found


def publish(session: Session, environment: str) -> None:
    """Tell the nodes of an environment what to trace."""
    watched = {one.application_id: one.until.timestamp() for one, _ in watches(session, environment)}
    body = {"environment": environment, "share": share(session, environment), "watched": watched}
    feeding.publish(session, "tracing", environment, body)


def drop_ended(session: Session) -> int:
    """Remove watches that have ended, and tell the nodes; returns how many."""
    ended = list(session.exec(select(TraceWatch).where(col(TraceWatch.until) < now())))
    for done in ended:
        session.delete(done)
    session.flush()
    for environment in sorted({done.environment for done in ended}):
        publish(session, environment)
    return len(ended)
