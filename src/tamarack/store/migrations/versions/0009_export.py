"""export: the steady export to an outside collector

Revision ID: 0009
Revises: 0008
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "export",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("address", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("header", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("secret", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("on", sa.Boolean(), nullable=False),
        sa.Column("sent", sa.BigInteger(), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("sent_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("next_try_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("problem", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )


def downgrade() -> None:
    op.drop_table("export")
