"""Environments are rows: the two that there were are the first ones. Nodes may be called otherwise than by name.

Revision ID: 0029
Revises: 0028
"""

from datetime import UTC, datetime

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None


def upgrade() -> None:
    text = sqlmodel.sql.sqltypes.AutoString()
    moment = sa.DateTime(timezone=True)
    table = op.create_table(
        "environment",
        sa.Column("name", text, nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.Column("summary", text, nullable=False),
        sa.Column("mark", text, nullable=False),
        sa.Column("address", text, nullable=False),
        sa.Column("open_to_owners", sa.Boolean(), nullable=False),
        sa.Column("on_portal", sa.Boolean(), nullable=False),
        sa.Column("made_by", text, nullable=False),
        sa.Column("made_at", moment, nullable=False),
        sa.Column("removed_at", moment, nullable=True),
        sa.PrimaryKeyConstraint("name"),
    )
    there = {"address": "", "on_portal": True, "made_by": "", "made_at": datetime.now(UTC), "removed_at": None}
    op.bulk_insert(
        table,
        [
            there | {"name": "test", "place": 0, "summary": "Where changes are tried", "mark": "ring",
                     "open_to_owners": True},
            there | {"name": "production", "place": 1, "summary": "Where the calls count", "mark": "disc",
                     "open_to_owners": False},
        ],
    )  # fmt: skip
    op.add_column("node", sa.Column("title", text, nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("node", "title")
    op.drop_table("environment")
