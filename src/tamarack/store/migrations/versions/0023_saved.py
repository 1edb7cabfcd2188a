"""Calls and roll-ups say what kept answers of language models saved, in tokens and in time.

Revision ID: 0023
Revises: 0022
"""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None

_SAVED = ("saved_tokens", "saved_us")
_TABLES = ("call", "rollup_minute", "rollup_ten_minutes", "rollup_hour", "rollup_six_hours", "rollup_day")


def upgrade() -> None:
    for table in _TABLES:
        for name in _SAVED:
            op.add_column(table, sa.Column(name, sa.BigInteger(), nullable=False, server_default="0"))


def downgrade() -> None:
    for table in _TABLES:
        for name in _SAVED:
            op.drop_column(table, name)
