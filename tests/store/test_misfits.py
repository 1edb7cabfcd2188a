"""Misfits as nodes counted them: taken in once, within a bound, and added up over days."""

from pathlib import Path
from typing import Any

import orjson
import pytest
from sqlalchemy import Engine
from sqlmodel import Session, select

from tamarack.core.checking.misfit import TOO_MANY
from tamarack.store.columns import now
from tamarack.store.misfits import queries as misfits
from tamarack.store.misfits.tables import MisfitSeen
from tamarack.worker.jobs import ship_counts

DAY = 86_400


def row(field: str = "limit", passed: int = 1, refused: int = 0, ago: float = 0.0, call: str = "c1") -> Any:
    at = now().timestamp() - ago
    return ("production", "fares", "1", "get /tariffs", "request", "query", field, "is not described", True,
            passed, refused, at, call)  # fmt: skip


def seen(world: Session, days: int = 7) -> list[tuple[str, int, int, str]]:
    found = misfits.misfits_of(world, "production", "fares", "1", days)
    return [(one.field or one.words, one.passed, one.refused, one.last_call) for one in found]


def test_batches_add_up_over_days_the_most_frequent_first(world: Session) -> None:
    assert misfits.take_in_misfits(world, "b1", "n1", [row(passed=2), row("season", 9, ago=2 * DAY, call="c2")])
    assert misfits.take_in_misfits(world, "b2", "n1", [row(passed=1, refused=4, ago=DAY, call="c3")])
    assert seen(world) == [("season", 9, 0, "c2"), ("limit", 3, 4, "c1")]
    assert seen(world, 1) == [("limit", 2, 0, "c1")]


def test_a_batch_counts_once_however_often_it_is_sent(world: Session) -> None:
    for _ in range(2):
        misfits.take_in_misfits(world, "b1", "n1", [row()])
    assert seen(world) == [("limit", 1, 0, "c1")]


def test_names_that_callers_choose_fill_no_table(world: Session, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(misfits, "MOST_A_DAY", 5)
    misfits.take_in_misfits(world, "b1", "n1", [row(f"f{place}") for place in range(50)])
    misfits.take_in_misfits(world, "b2", "n1", [row(f"f{place}") for place in range(50)])
    found = {field: passed for field, passed, _, _ in seen(world)}
    assert len(found) == 6 and found[TOO_MANY] == 90 and sum(found.values()) == 100


def test_a_batch_that_cannot_be_read_is_set_aside_and_the_next_is_taken_in(
    engine: Engine, world: Session, tmp_path: Path
) -> None:
    spool = tmp_path / "nodes" / "n1" / "spool"
    spool.mkdir(parents=True)
    said: list[str] = []
    for name, rows in (("a", [["too", "short"]]), ("b", [[*row()[:11], "noon", "c1"]]), ("c", [row()])):
        path = spool / f"{name}.misfits"
        path.write_bytes(orjson.dumps(rows))
        ship_counts(engine, path, said.append)
    assert len(said) == 2 and "set aside" in said[0]
    assert [one.name for one in sorted((spool / "broken").iterdir())] == ["a.misfits", "b.misfits"]
    assert [one.passed for one in world.exec(select(MisfitSeen))] == [1]
