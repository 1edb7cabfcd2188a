"""Exporting records in batches, in the order of their numbers: what comes next, and what became of it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import text
from sqlmodel import Session, col, select
from sqlmodel.sql.expression import SelectOfScalar

from tamarack.core.identity.secret_facts import may_go_to
from tamarack.core.traffic.otlp import COLUMNS
from tamarack.store.audit.log import Actor, record
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.export.tables import Export
from tamarack.store.secrets.tables import Secret

MOST_CALLS = 5_000
"""Calls of one request; a single batch may have more."""
MOST_BATCHES = 200
LONGEST_WAIT = timedelta(minutes=5)

Batch = tuple[int, str, list[Mapping[str, Any]]]
"""A batch to send: its number, its node, its calls."""


def due() -> SelectOfScalar[Export]:
    """The export, where it is on and its time has come."""
    return select(Export).where(col(Export.on), col(Export.next_try_at).is_(None) | (col(Export.next_try_at) <= now()))


def export(session: Session) -> Export:
    """The export; off where it was never set."""
    return session.get(Export, 1) or Export()


def set_up(session: Session, actor: Actor, address: str, on: bool, header: str, secret: str) -> Export:
    """Say where to. One that is turned on begins with what is recorded from now on. Raises NotPossible."""
    address, header, secret = address.strip(), header.strip().lower(), secret.strip()
    parts = urlsplit(address)
    if on and not (parts.scheme in ("http", "https") and parts.hostname):
        raise NotPossible(
            f"{address!r} is not an address; write it like https://collector.skerry.example/v1/logs", "address"
        )
    if bool(header) != bool(secret):
        raise NotPossible("A header and the secret that it carries go together; give both, or neither.", "header")
    if header and not header.replace("-", "").isalnum():
        raise NotPossible(f"{header!r} is not the name of a header field; write it like x-collector-key", "header")
    named = session.get(Secret, secret) if secret else None
    if secret and named is None:
        raise NotPossible(f"There is no secret {secret!r}; make it under Secrets first.", "secret")
    if named is not None and not may_go_to(named.hosts, address):
        raise NotPossible(f"The secret {secret!r} may not be sent to {address}; add its host under Secrets.", "secret")
    kept = session.get(Export, 1)
    if kept is None:
        kept = Export()
    if on and not kept.on and not kept.sent:
        kept.sent = session.connection().execute(text("SELECT coalesce(max(number), 0) FROM call_batch")).scalar_one()
    kept.address, kept.on, kept.header, kept.secret = address, on, header, secret
    kept.tries, kept.next_try_at, kept.problem, kept.changed_at = 0, None, "", now()
    session.add(kept)
    session.flush()
    record(session, actor, "set export", "export", address=address, on=on, header=header, secret=secret)
    return kept


def waiting(session: Session) -> tuple[int, int]:
    """How many batches and calls wait to be taken."""
    kept = export(session)
    query = text(
        "SELECT count(*) AS batches, coalesce(sum(calls), 0)::bigint AS calls FROM call_batch"
        " WHERE number > :sent AND first IS NOT NULL"
    )
    row = session.connection().execute(query, {"sent": kept.sent}).one()
    return (row.batches, row.calls) if kept.on else (0, 0)


def following(session: Session, kept: Export) -> list[Batch]:
    """The batches that come next, with their calls."""
    query = text(
        "SELECT number, node, calls, first, last FROM call_batch WHERE number > :sent AND first IS NOT NULL"
        " ORDER BY number LIMIT :most"
    )
    chosen: list[Any] = []
    many = 0
    for row in session.connection().execute(query, {"sent": kept.sent, "most": MOST_BATCHES}):
        if chosen and many + row.calls > MOST_CALLS:
            break
        chosen.append(row)
        many += row.calls
    if not chosen:
        return []
    found: dict[int, list[Mapping[str, Any]]] = {row.number: [] for row in chosen}
    query = text(
        f'SELECT batch, {", ".join(COLUMNS)} FROM "call" WHERE batch = ANY(:numbers)'  # noqa: S608 - columns of ours
        " AND at >= :first AND at <= :last"
    )
    values = {
        "numbers": list(found),
        "first": min(row.first for row in chosen),
        "last": max(row.last for row in chosen),
    }
    for call in session.connection().execute(query, values):
        found[call.batch].append(dict(call._mapping))
    return [(row.number, row.node, found[row.number]) for row in chosen]


def note_taken(session: Session, kept: Export, batches: Sequence[Batch]) -> None:
    """The collector took them."""
    kept.sent = batches[-1][0]
    kept.calls += sum(len(calls) for _, _, calls in batches)
    kept.sent_at, kept.tries, kept.next_try_at, kept.problem = now(), 0, None, ""
    session.add(kept)


def note_not_taken(session: Session, kept: Export, problem: str, after: timedelta | None = None) -> None:
    """The collector did not take them; they are tried again, later each time."""
    kept.tries += 1
    wait = after if after is not None else min(LONGEST_WAIT, timedelta(seconds=0.5 * 2 ** min(kept.tries, 12)))
    kept.problem, kept.next_try_at = problem[:500], now() + min(wait, LONGEST_WAIT)
    session.add(kept)


@dataclass(frozen=True, slots=True)
class Standing:
    """How the export stands, for its page."""

    export: Export
    batches: int
    calls: int


def standing(session: Session) -> Standing:
    """How the export stands."""
    return Standing(export(session), *waiting(session))
