"""Use of fields: taken in once, summed by field and caller, kept for its days; and what limits would refuse nobody."""

import json
import time
from pathlib import Path

import psycopg
from sqlalchemy import Engine
from sqlmodel import Session

from core.traffic.test_traffic import record
from tamarack.settings import Settings
from tamarack.store.graph_use import queries as use
from tamarack.store.traffic.recording import Batch, take_in
from tamarack.worker.jobs import ship_counts
from tamarack.worker.keep import keep_house


def row(field: str, application: str = "kiosk", calls: int = 2, ago_s: float = 0) -> list[object]:
    return ["production", "fleet-graph", "1", field, "ticket-office", application, calls, time.time() - ago_s]


def ship(engine: Engine, folder: Path, name: str, *rows: list[object]) -> list[str]:
    said: list[str] = []
    spool = folder / "n1" / "spool"
    spool.mkdir(parents=True, exist_ok=True)
    batch = spool / f"{name}.fields"
    batch.write_text(json.dumps(rows))
    ship_counts(engine, batch, said.append)
    return said


def sums(session: Session, days: int = 30) -> dict[str, tuple[int, int]]:
    found = use.field_use(session, "production", "fleet-graph", "1", days)
    return {name: (one.calls, one.callers) for name, one in found.items()}


def test_use_is_taken_in_once_and_summed(session: Session, engine: Engine, tmp_path: Path) -> None:
    rows = (row("Vessel.name"), row("Vessel.name", "desk", 3), row("Vessel.oldName", ago_s=8 * 86_400))
    for _ in range(2):
        assert ship(engine, tmp_path, "b1", *rows) == []
    assert ship(engine, tmp_path, "b2", row("Vessel.name")) == []
    assert sums(session) == {"Vessel.name": (7, 2), "Vessel.oldName": (2, 1)}
    assert set(sums(session, 7)) == {"Vessel.name"}
    callers = use.callers_of(session, "production", "fleet-graph", "1", "Vessel.name", 30)
    assert [(one.application, one.calls) for one in callers] == [("kiosk", 4), ("desk", 3)]
    assert sums(session) and not use.field_use(session, "test", "fleet-graph", "1", 30)


def test_a_batch_that_cannot_be_read_is_set_aside(session: Session, engine: Engine, tmp_path: Path) -> None:
    assert "set aside" in ship(engine, tmp_path, "b1", ["production"])[0]
    assert "set aside" in ship(engine, tmp_path, "b2", [*row("a")[:6], "x", 1.0])[0]


def test_use_is_dropped_after_its_days(session: Session, engine: Engine, settings: Settings, tmp_path: Path) -> None:
    ship(engine, tmp_path, "b1", row("Vessel.name", ago_s=(settings.keep_hours_days + 2) * 86_400), row("Port.code"))
    with psycopg.connect(settings.database, autocommit=True) as connection:
        keep_house(connection, settings)
    assert set(sums(session, 9_999)) == {"Port.code"}


def test_the_deepest_and_costliest_documents_are_what_limits_would_let_through(
    session: Session, settings: Settings
) -> None:
    now = int(time.time() * 1_000_000)
    about = {"environment": "production", "api": "fleet-graph", "version": "1"}
    calls = [record(now - n, 10, id=f"c{n}", graph_depth=2 + n % 2, graph_cost=n, **about) for n in range(200)]
    calls += [record(now, 10, id="d", graph_depth=9, graph_cost=900, **about),
              record(now, 10, id="e", graph_depth=50, graph_cost=9_000, reason="over-graphql-limit", **about),
              record(now, 10, id="f", **about)]  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b", "n1", calls)])
    assert use.measured(session, "production", "fleet-graph", "1", 7) == (201, 9, 3, 900, 198)
    assert use.measured(session, "test", "fleet-graph", "1", 7) == (0, 0, 0, 0, 0)
