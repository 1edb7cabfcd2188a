"""Directories that people sign up to, and mail addresses that were confirmed.

Revision ID: 0019
Revises: 0018
"""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("directory", sa.Column("sign_up", sa.Boolean(), nullable=False, server_default="false"))
    op.add_column("end_user", sa.Column("email_confirmed", sa.Boolean(), nullable=False, server_default="false"))


def downgrade() -> None:
    op.drop_column("end_user", "email_confirmed")
    op.drop_column("directory", "sign_up")
