"""Nodes that join, what all nodes say of themselves, and what they are asked to do.

Revision ID: 0027
Revises: 0026
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None


def upgrade() -> None:
    text = sqlmodel.sql.sqltypes.AutoString()
    moment = sa.DateTime(timezone=True)
    for column in (
        sa.Column("version", text, nullable=False, server_default=""),
        sa.Column("standing", text, nullable=False, server_default="serving"),
        sa.Column("asked", text, nullable=False, server_default="serving"),
        sa.Column("calls_per_s", sa.Float(), nullable=False, server_default="0"),
        sa.Column("connections", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("memory_bytes", sa.BigInteger(), nullable=False, server_default="0"),
        sa.Column("spool_bytes", sa.BigInteger(), nullable=False, server_default="0"),
        sa.Column("clock_ms", sa.Float(), nullable=True),
        sa.Column("labels", JSONB, nullable=False, server_default="[]"),
        sa.Column("joined_at", moment, nullable=True),
        sa.Column("credential", text, nullable=True),
        sa.Column("next_credential", text, nullable=True),
        sa.Column("new_credential_asked", sa.Boolean(), nullable=False, server_default="false"),
        sa.Column("revoked_at", moment, nullable=True),
    ):
        op.add_column("node", column)
    for column in ("credential", "next_credential"):
        op.create_unique_constraint(f"node_{column}_key", "node", [column])
    op.create_table(
        "join_token",
        sa.Column("id", text, nullable=False),
        sa.Column("digest", text, nullable=False),
        sa.Column("environment", text, nullable=False),
        sa.Column("labels", JSONB, nullable=False, server_default="[]"),
        sa.Column("made_at", moment, nullable=False),
        sa.Column("made_by", text, nullable=False),
        sa.Column("expires_at", moment, nullable=False),
        sa.Column("used_at", moment, nullable=True),
        sa.Column("node", text, nullable=False),
        sa.Column("steps", JSONB, nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("digest"),
    )


def downgrade() -> None:
    op.drop_table("join_token")
    for column in ("credential", "next_credential"):
        op.drop_constraint(f"node_{column}_key", "node")
    for name in (
        "version", "standing", "asked", "calls_per_s", "connections", "memory_bytes", "spool_bytes", "clock_ms",
        "labels", "joined_at", "credential", "next_credential", "new_credential_asked", "revoked_at",
    ):  # fmt: skip
        op.drop_column("node", name)
