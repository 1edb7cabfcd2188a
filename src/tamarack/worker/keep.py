"""Keeping house: partitions ahead of time, and what is older than its days dropped."""

from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import psycopg

from tamarack.settings import Settings
from tamarack.store.prompts.queries import drop_over
from tamarack.store.traffic.partitions import drop_partitions, make_partitions


class HouseKeeper:
    """Keeps house, on a connection of its own each time."""

    def __init__(self, settings: Settings, log: Callable[[str], None]) -> None:
        self._settings = settings
        self._log = log

    def keep(self) -> None:
        """Make and drop. Raises `psycopg.Error` while the database is away."""
        with psycopg.connect(self._settings.database, autocommit=True, connect_timeout=3) as connection:
            for name in keep_house(connection, self._settings):
                self._log(f"dropped {name}: past its days")


def keep_house(connection: psycopg.Connection, settings: Settings) -> list[str]:
    """Make the partitions of the coming days and drop what is past its time; returns what was dropped."""
    today = datetime.now(UTC).date()
    make_partitions(connection, today, today + timedelta(days=2))
    dropped = drop_partitions(connection, "call", today - timedelta(days=settings.keep_calls_days))
    dropped += drop_partitions(connection, "rollup_minute", today - timedelta(days=settings.keep_minutes_days))
    for table, days in (
        ("rollup_ten_minutes", settings.keep_minutes_days),
        ("rollup_hour", settings.keep_hours_days),
        ("rollup_six_hours", settings.keep_hours_days),
        ("rollup_day", settings.keep_days_days),
    ):
        connection.execute(
            f"DELETE FROM {table} WHERE start < now() - make_interval(days => %s)",  # noqa: S608 - two names of ours
            (days,),
        )
    connection.execute(
        "DELETE FROM trace WHERE at < now() - make_interval(days => %s)",
        (settings.keep_traces_days,),
    )
    drop_over(connection)
    connection.execute("DELETE FROM graph_field_use WHERE day < current_date - %s", (settings.keep_hours_days,))
    connection.execute(
        "DELETE FROM target_change WHERE at < now() - make_interval(days => %s)", (settings.keep_calls_days,)
    )
    connection.execute("DELETE FROM quota_used WHERE ends < now() - interval '400 days'")
    connection.execute("DELETE FROM misfit WHERE day < current_date - %s", (settings.keep_calls_days,))
    connection.execute("DELETE FROM mail WHERE sent_at < now() - interval '30 days'")
    connection.execute(
        "DELETE FROM call_batch WHERE at < now() - make_interval(days => %s)", (max(7, settings.keep_calls_days),)
    )
    connection.execute("DELETE FROM sign_in_attempt WHERE at < now() - interval '1 day'")
    return dropped
