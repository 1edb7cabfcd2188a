"""Devices that wait for their user, and secrets of clients that are replaced with an overlap.

Revision ID: 0018
Revises: 0017
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None

TEXT = sqlmodel.sql.sqltypes.AutoString()
MOMENT = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.add_column("sign_in_client", sa.Column("old_secret_digest", TEXT, nullable=False, server_default=""))
    op.add_column("sign_in_client", sa.Column("old_secret_until", MOMENT, nullable=True))
    op.create_table(
        "device_request",
        sa.Column("digest", TEXT, nullable=False),
        sa.Column("user_digest", TEXT, nullable=False),
        sa.Column("client_id", TEXT, nullable=False),
        sa.Column("scopes", postgresql.JSONB(), nullable=False, server_default="[]"),
        sa.Column("expires_at", MOMENT, nullable=False),
        sa.Column("interval_s", sa.Integer(), nullable=False),
        sa.Column("asked_at", MOMENT, nullable=True),
        sa.Column("answer", TEXT, nullable=False),
        sa.Column("grant_id", TEXT, nullable=True),
        sa.Column("auth_at", MOMENT, nullable=True),
        sa.Column("used_at", MOMENT, nullable=True),
        sa.ForeignKeyConstraint(["client_id"], ["sign_in_client.id"]),
        sa.ForeignKeyConstraint(["grant_id"], ["sign_in_grant.id"]),
        sa.PrimaryKeyConstraint("digest"),
        sa.UniqueConstraint("user_digest"),
    )
    op.create_index("ix_device_request_expires_at", "device_request", ["expires_at"])


def downgrade() -> None:
    op.drop_table("device_request")
    op.drop_column("sign_in_client", "old_secret_until")
    op.drop_column("sign_in_client", "old_secret_digest")
