"""Use of the fields of GraphQL APIs, by day and application.

Revision ID: 0026
Revises: 0025
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

_NAMES = ("environment", "api", "version", "field", "organization", "application")


def upgrade() -> None:
    text = sqlmodel.sql.sqltypes.AutoString()
    op.create_table(
        "graph_field_use",
        sa.Column("day", sa.Date(), nullable=False),
        *(sa.Column(name, text, nullable=False) for name in _NAMES),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("last_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("day", *_NAMES),
    )


def downgrade() -> None:
    op.drop_table("graph_field_use")
