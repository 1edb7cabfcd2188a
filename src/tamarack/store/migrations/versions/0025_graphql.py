"""Calls say what was asked of a GraphQL API: the operation, its depth and its cost.

Revision ID: 0025
Revises: 0024
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

_NUMBERS = ("graph_depth", "graph_cost")


def upgrade() -> None:
    text = sqlmodel.sql.sqltypes.AutoString()
    op.add_column("call", sa.Column("graph_operation", text, nullable=False, server_default=""))
    for name in _NUMBERS:
        op.add_column("call", sa.Column(name, sa.BigInteger(), nullable=False, server_default="0"))


def downgrade() -> None:
    for name in ("graph_operation", *_NUMBERS):
        op.drop_column("call", name)
