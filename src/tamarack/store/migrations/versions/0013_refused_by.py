"""Calls keep the name of what refused them, and what staff are told of it.

Revision ID: 0013
Revises: 0012
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for column in ("policy", "note"):
        op.add_column("call", sa.Column(column, sqlmodel.sql.sqltypes.AutoString(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("call", "note")
    op.drop_column("call", "policy")
