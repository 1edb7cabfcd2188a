"""How targets stood over time, as nodes said when it changed."""

from collections.abc import Sequence
from datetime import datetime, timedelta

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


def ailing(session: Session, environment: str, ends: Sequence[datetime], window: timedelta) -> list[int]:
    """For each moment of `ends`, how many targets some node found not well at some time of the stretch before it."""
    if not ends:
        return []
    first = ends[0] - window
    of_it = TargetChange.environment == environment
    place = (col(TargetChange.backend), col(TargetChange.target), col(TargetChange.node))
    before = session.exec(
        select(TargetChange)
        .where(of_it, col(TargetChange.at) < first)
        .ext(distinct_on(*place))
        .order_by(*place, col(TargetChange.at).desc(), col(TargetChange.id).desc())
    )
    query = select(TargetChange).where(of_it, col(TargetChange.at) >= first, col(TargetChange.at) < ends[-1])
    changes = [*before, *session.exec(query.order_by(col(TargetChange.at), col(TargetChange.id)))]
    stretches: dict[tuple[str, str, str], list[tuple[datetime, datetime]]] = {}
    since: dict[tuple[str, str, str], datetime] = {}
    for one in changes:
        key = (one.backend, one.target, one.node)
        if one.state == "well":
            if key in since:
                stretches.setdefault(key, []).append((since.pop(key), one.at))
        else:
            since.setdefault(key, one.at)
    for key, at in since.items():
        stretches.setdefault(key, []).append((at, ends[-1]))
    return [
        len({key[:2] for key, found in stretches.items() if any(a < end and b > end - window for a, b in found)})
        for end in ends
    ]
