"""Alembic's entry: runs on the connection it is handed."""

from alembic import context

from tamarack.store.migrate import is_ours
from tamarack.store.tables import METADATA

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=METADATA, include_name=is_ours)
with context.begin_transaction():
    context.run_migrations()
