"""When nodes were not heard of."""

from collections.abc import Sequence
from datetime import datetime, timedelta

from sqlmodel import Session, col, select

from tamarack.store.nodes.queries import GONE_AFTER, nodes
from tamarack.store.nodes.tables import NodeSilence


def silent(session: Session, environment: str, ends: Sequence[datetime], window: timedelta) -> list[int]:
    """For each moment of `ends`, how many nodes were not heard of at some time of the stretch before it. Nodes that
    were revoked, or taken off the list, are expected to be silent."""
    if not ends:
        return []
    there = {node.name: node.seen_at for node in nodes(session, environment)}
    query = select(NodeSilence).where(
        NodeSilence.environment == environment,
        col(NodeSilence.until) > ends[0] - window,
        col(NodeSilence.since) < ends[-1],
    )
    spans = [(one.node, one.since + GONE_AFTER, one.until) for one in session.exec(query) if one.node in there]
    spans += [(name, seen + GONE_AFTER, ends[-1] + window) for name, seen in there.items()]
    return [len({name for name, since, until in spans if since < end and until > end - window}) for end in ends]
