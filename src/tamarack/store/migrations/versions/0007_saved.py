"""saved: explorations, boards, and files that are handed over

Revision ID: 0007
Revises: 0006
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "board",
        sa.Column("name", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("body", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("owner", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("roles", postgresql.JSONB(astext_type=sa.Text()), server_default="[]", nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "exploration",
        sa.Column("id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("title", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("question", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("owner", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("roles", postgresql.JSONB(astext_type=sa.Text()), server_default="[]", nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_exploration_owner"), "exploration", ["owner"], unique=False)
    op.create_table(
        "handed_over",
        sa.Column("id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("owner", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("what", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("form", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("state", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("problem", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("rows", sa.BigInteger(), nullable=False),
        sa.Column("of", sa.BigInteger(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("asked_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_handed_over_asked_at"), "handed_over", ["asked_at"], unique=False)
    op.create_index(op.f("ix_handed_over_owner"), "handed_over", ["owner"], unique=False)
    op.create_index(op.f("ix_handed_over_state"), "handed_over", ["state"], unique=False)


def downgrade() -> None:
    op.drop_index(op.f("ix_handed_over_state"), table_name="handed_over")
    op.drop_index(op.f("ix_handed_over_owner"), table_name="handed_over")
    op.drop_index(op.f("ix_handed_over_asked_at"), table_name="handed_over")
    op.drop_table("handed_over")
    op.drop_index(op.f("ix_exploration_owner"), table_name="exploration")
    op.drop_table("exploration")
    op.drop_table("board")
