"""How targets stood over time, as nodes said when it changed."""

from datetime import datetime

from sqlalchemy.dialects.postgresql import distinct_on
from sqlmodel import Session, col, select

from tamarack.store.rollouts.tables import TargetChange

MOST = 2_000


def target_changes(session: Session, environment: str, backend: str, since: datetime) -> list[TargetChange]:
    """The changes of a backend's targets since a moment, the oldest first; and the last one before it of each."""
    of_it = (TargetChange.environment == environment, TargetChange.backend == backend)
    query = select(TargetChange).where(*of_it, col(TargetChange.at) >= since)
    within = list(session.exec(query.order_by(col(TargetChange.at).desc(), col(TargetChange.id).desc()).limit(MOST)))
    before = session.exec(
        select(TargetChange)
        .where(*of_it, col(TargetChange.at) < since)
        .ext(distinct_on(col(TargetChange.target), col(TargetChange.node)))
        .order_by(col(TargetChange.target), col(TargetChange.node), col(TargetChange.at).desc())
    )
    return [*before, *reversed(within)]
