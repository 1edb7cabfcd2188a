"""Resources, pushed requests, opaque tokens, one-time codes, profiles, lifetimes by client.

Revision ID: 0021
Revises: 0020
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

TEXT = sqlmodel.sql.sqltypes.AutoString()


def _names(table: str, *names: str) -> None:
    for name in names:
        op.add_column(table, sa.Column(name, JSONB(), nullable=False, server_default="[]"))


def upgrade() -> None:
    op.add_column("directory", sa.Column("codes", TEXT, nullable=False, server_default="off"))
    op.add_column("end_user", sa.Column("profile", JSONB(), nullable=False, server_default="{}"))
    op.add_column("end_user", sa.Column("code_secret", TEXT, nullable=False, server_default=""))
    op.add_column("end_user", sa.Column("code_step", sa.BigInteger(), nullable=False, server_default="0"))
    _names("end_user", "spare_codes")
    op.add_column("sign_in_client", sa.Column("access_minutes", sa.Integer(), nullable=False, server_default="0"))
    _names("sign_in_client", "after_sign_out")
    _names("sign_in_grant", "resources")
    op.add_column("sign_in_grant", sa.Column("auth_at", sa.DateTime(timezone=True), nullable=True))
    _names("device_request", "resources")
    op.create_table(
        "opaque_token",
        sa.Column("digest", TEXT, nullable=False),
        sa.Column("grant_id", TEXT, nullable=False),
        sa.Column("claims", JSONB(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["grant_id"], ["sign_in_grant.id"]),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_index("ix_opaque_token_grant_id", "opaque_token", ["grant_id"])
    op.create_index("ix_opaque_token_expires_at", "opaque_token", ["expires_at"])
    op.create_table(
        "pushed_request",
        sa.Column("digest", TEXT, nullable=False),
        sa.Column("client_id", TEXT, nullable=False),
        sa.Column("asked", JSONB(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["client_id"], ["sign_in_client.id"]),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_index("ix_pushed_request_expires_at", "pushed_request", ["expires_at"])


def downgrade() -> None:
    op.drop_table("pushed_request")
    op.drop_table("opaque_token")
    op.drop_column("device_request", "resources")
    op.drop_column("sign_in_grant", "auth_at")
    op.drop_column("sign_in_grant", "resources")
    for name in ("after_sign_out", "access_minutes"):
        op.drop_column("sign_in_client", name)
    for name in ("spare_codes", "code_step", "code_secret", "profile"):
        op.drop_column("end_user", name)
    op.drop_column("directory", "codes")
