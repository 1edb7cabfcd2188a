"""What passes that descriptions do not know, counted by day, operation and place.

Revision ID: 0016
Revises: 0015
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None

TEXT = sqlmodel.sql.sqltypes.AutoString()


def upgrade() -> None:
    op.create_table(
        "misfit",
        sa.Column("key", TEXT, nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        *(sa.Column(name, TEXT, nullable=False) for name in ("environment", "api", "version", "operation")),
        *(sa.Column(name, TEXT, nullable=False) for name in ("side", "place", "field", "words")),
        sa.Column("undescribed", sa.Boolean(), nullable=False),
        sa.Column("passed", sa.BigInteger(), nullable=False),
        sa.Column("refused", sa.BigInteger(), nullable=False),
        sa.Column("last_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("last_call", TEXT, nullable=False),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index("ix_misfit_day", "misfit", ["day"])
    op.create_index("ix_misfit_operation", "misfit", ["environment", "api", "version", "day"])


def downgrade() -> None:
    op.drop_table("misfit")
