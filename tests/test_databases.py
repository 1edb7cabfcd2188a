"""A test finds its database as its template was, whatever the test before it did."""

from typing import Any

import psycopg
import pytest
from sqlalchemy import text

from databases import Databases
from tamarack.store import engine as store_engine

CHANGES = {
    "rows are added": "INSERT INTO join_ask (purpose, email, said, asked_at) VALUES ('reset', 'x', '{}', now())",
    "a number is taken": "SELECT nextval('rollout_number_seq')",
    "rows are changed": "UPDATE staff SET name = 'Somebody'; UPDATE draft_item SET revision = revision",
    "rows are removed": "DELETE FROM person; DELETE FROM rollout WHERE number = 2",
    "a table is emptied": "TRUNCATE draft_item CASCADE",
    "a table is made": "CREATE TABLE more (what text)",
    "a column is made": "ALTER TABLE staff ADD COLUMN more text",
    "a rule is dropped": "ALTER TABLE person DROP CONSTRAINT person_organization_id_fkey",
    "there is much": "INSERT INTO join_ask (purpose, email, said, asked_at)"
    " SELECT 'reset', repeat('x', 200), '{}', now() FROM generate_series(1, 20000)",
}


def held(url: str) -> dict[str, Any]:
    """All that a database holds: the rows of every table, and where its sequences are."""
    with psycopg.connect(url) as connection:
        columns = connection.execute(
            "SELECT table_name, string_agg(column_name, ' ' ORDER BY ordinal_position) FROM information_schema.columns"
            " WHERE table_schema = 'public' GROUP BY 1"
        ).fetchall()
        found: dict[str, Any] = dict(columns)
        for table, _ in columns:
            found[f"rows of {table}"] = sorted(map(str, connection.execute(f'SELECT * FROM public."{table}"')))
        sequences = connection.execute("SELECT sequencename, last_value FROM pg_sequences WHERE schemaname = 'public'")
        rules = connection.execute("SELECT conname FROM pg_constraint WHERE connamespace = 'public'::regnamespace")
        return found | {"sequences": sorted(map(str, sequences)), "rules": sorted(map(str, rules))}


@pytest.mark.parametrize("change", CHANGES)
def test_what_a_test_changed_is_brought_back(databases: Databases, world_template: str, change: str) -> None:
    with databases.taken(world_template) as url:
        before = held(url)
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(CHANGES[change])
        assert held(url) != before
    with databases.taken(world_template) as url:
        assert held(url) == before


def test_what_a_test_left_open_holds_up_nothing(databases: Databases, world_template: str) -> None:
    with databases.taken(world_template) as url:
        before = held(url)
        stranger = psycopg.connect(url)
        stranger.execute("LOCK TABLE staff")
        left = store_engine.make_engine(url).connect()
        left.execute(text("UPDATE person SET name = 'Somebody'"))
    with databases.taken(world_template) as url:
        assert held(url) == before
        with store_engine.make_engine(url).connect() as connection:
            assert connection.execute(text("SELECT count(*) FROM staff")).scalar_one() > 0
    stranger.close()
    left.invalidate()  # its server's side is gone
    left.close()
