"""The sign-in service: directories of end users, clients, grants, codes, refresh tokens, and keys for tokens.

Revision ID: 0017
Revises: 0016
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None

TEXT = sqlmodel.sql.sqltypes.AutoString()
TABLES = ("refresh_token", "authorization_code", "consent", "sign_in_grant", "sign_in_client", "end_user", "directory")


def _texts(*names: str) -> list[sa.Column]:  # type: ignore[type-arg]
    return [sa.Column(name, TEXT, nullable=False) for name in names]


def _names(*names: str) -> list[sa.Column]:  # type: ignore[type-arg]
    return [sa.Column(name, postgresql.JSONB(), nullable=False, server_default="[]") for name in names]


def _moments(*names: str, nullable: bool = False) -> list[sa.Column]:  # type: ignore[type-arg]
    return [sa.Column(name, sa.DateTime(timezone=True), nullable=nullable) for name in names]


def upgrade() -> None:
    op.add_column("signing_key", sa.Column("purpose", TEXT, nullable=False, server_default="signed-key"))
    op.create_table(
        "directory",
        *_texts("name", "title"),
        sa.Column("rules", postgresql.JSONB(), nullable=False),
        sa.Column("access_minutes", sa.Integer(), nullable=False),
        sa.Column("refresh_days", sa.Integer(), nullable=False),
        sa.Column("active", sa.Boolean(), nullable=False),
        *_moments("made_at"),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "end_user",
        *_texts("id", "directory", "email", "name"),
        sa.Column("password_hash", TEXT, nullable=True),
        sa.Column("must_change_password", sa.Boolean(), nullable=False),
        sa.Column("active", sa.Boolean(), nullable=False),
        sa.Column("session_epoch", sa.Integer(), nullable=False),
        *_names("groups"),
        sa.Column("claims", postgresql.JSONB(), nullable=False, server_default="{}"),
        *_moments("made_at"),
        *_moments("seen_at", nullable=True),
        sa.ForeignKeyConstraint(["directory"], ["directory.name"]),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("directory", "email"),
    )
    op.create_index("ix_end_user_directory", "end_user", ["directory"])
    op.create_table(
        "sign_in_client",
        *_texts("id", "application_id", "directory", "environment", "title"),
        sa.Column("confidential", sa.Boolean(), nullable=False),
        *_texts("secret_digest"),
        *_names("redirects", "grants", "scopes"),
        *_moments("made_at"),
        *_moments("revoked_at", nullable=True),
        sa.ForeignKeyConstraint(["application_id"], ["application.id"]),
        sa.ForeignKeyConstraint(["directory"], ["directory.name"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_sign_in_client_application_id", "sign_in_client", ["application_id"])
    op.create_table(
        "sign_in_grant",
        *_texts("id", "client_id"),
        sa.Column("user_id", TEXT, nullable=True),
        *_names("scopes"),
        *_moments("made_at"),
        *_moments("ended_at", nullable=True),
        *_texts("why"),
        *_moments("expires_at"),
        sa.ForeignKeyConstraint(["client_id"], ["sign_in_client.id"]),
        sa.ForeignKeyConstraint(["user_id"], ["end_user.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_sign_in_grant_user_id", "sign_in_grant", ["user_id"])
    op.create_index("ix_sign_in_grant_client_id", "sign_in_grant", ["client_id"])
    op.create_table(
        "consent",
        *_texts("user_id", "client_id"),
        *_names("scopes"),
        *_moments("given_at"),
        sa.ForeignKeyConstraint(["user_id"], ["end_user.id"]),
        sa.ForeignKeyConstraint(["client_id"], ["sign_in_client.id"]),
        sa.PrimaryKeyConstraint("user_id", "client_id"),
    )
    op.create_table(
        "authorization_code",
        *_texts("digest", "grant_id", "redirect_uri", "code_challenge", "nonce"),
        sa.Column("named_redirect", sa.Boolean(), nullable=False),
        *_moments("auth_at", "expires_at"),
        *_moments("used_at", nullable=True),
        sa.ForeignKeyConstraint(["grant_id"], ["sign_in_grant.id"]),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_index("ix_authorization_code_expires_at", "authorization_code", ["expires_at"])
    op.create_table(
        "refresh_token",
        *_texts("digest", "grant_id"),
        *_moments("made_at", "expires_at"),
        *_moments("used_at", nullable=True),
        sa.ForeignKeyConstraint(["grant_id"], ["sign_in_grant.id"]),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_index("ix_refresh_token_grant_id", "refresh_token", ["grant_id"])
    op.create_index("ix_refresh_token_expires_at", "refresh_token", ["expires_at"])


def downgrade() -> None:
    for table in TABLES:
        op.drop_table(table)
    op.drop_column("signing_key", "purpose")
