"""Nodes say how targets stand, and what changed with them is kept.

Revision ID: 0014
Revises: 0013
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("node", sa.Column("targets", postgresql.JSONB(), nullable=False, server_default="[]"))
    text = sqlmodel.sql.sqltypes.AutoString()
    op.create_table(
        "target_change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        *(
            sa.Column(name, text, nullable=False)
            for name in ("environment", "node", "backend", "target", "state", "why")
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_target_change_at", "target_change", ["at"])
    op.create_index("ix_target_change_backend", "target_change", ["backend"])


def downgrade() -> None:
    op.drop_table("target_change")
    op.drop_column("node", "targets")
