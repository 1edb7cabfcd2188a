"""Bring a database to the newest schema."""

from pathlib import Path

from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.config import Config
from alembic.migration import MigrationContext
from sqlalchemy import Engine

from tamarack.store.tables import METADATA
from tamarack.store.traffic.partitions import is_partition


def _config() -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    return config


def migrate(engine: Engine, to: str = "head") -> None:
    """Run every migration that the database has not seen, up to a revision."""
    config = _config()
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, to)


def make_revision(engine: Engine, message: str) -> None:
    """Write a new migration from the difference between the tables and the database."""
    config = _config()
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.revision(config, message=message, autogenerate=True)


def is_ours(name: str | None, kind: str, parents: object) -> bool:
    """Whether a migration looks after an object: partitions are made and dropped by the worker."""
    return kind != "table" or name is None or not is_partition(name)


def drift(engine: Engine) -> list[object]:
    """What the tables say that the database does not have; empty where they agree."""
    with engine.connect() as connection:
        context = MigrationContext.configure(connection, opts={"include_name": is_ours})
        return list(compare_metadata(context, METADATA))
