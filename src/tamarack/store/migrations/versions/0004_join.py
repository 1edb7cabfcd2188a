"""join

Revision ID: 0004
Revises: 0003
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "join_request",
        sa.Column("id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("email", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("name", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("password_hash", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("organization", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("organization_id", sqlmodel.sql.sqltypes.AutoString(), nullable=True),
        sa.Column("message", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("state", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("decided_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("decided_by", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("reason", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.ForeignKeyConstraint(
            ["organization_id"],
            ["organization.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_join_request_email"), "join_request", ["email"], unique=False)
    op.create_index(op.f("ix_join_request_organization_id"), "join_request", ["organization_id"], unique=False)
    op.create_index(op.f("ix_join_request_state"), "join_request", ["state"], unique=False)
    op.create_table(
        "mail_link",
        sa.Column("digest", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("purpose", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("subject", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("email", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("organization_id", sqlmodel.sql.sqltypes.AutoString(), nullable=True),
        sa.Column("role", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("made_by", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("used_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["organization_id"],
            ["organization.id"],
        ),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_index(op.f("ix_mail_link_email"), "mail_link", ["email"], unique=False)
    op.create_index(op.f("ix_mail_link_expires_at"), "mail_link", ["expires_at"], unique=False)
    op.create_index(op.f("ix_mail_link_organization_id"), "mail_link", ["organization_id"], unique=False)
    op.add_column("mail", sa.Column("secret", sa.Boolean(), server_default="false", nullable=False))
    op.add_column("person", sa.Column("must_change_password", sa.Boolean(), server_default="false", nullable=False))
    op.add_column("staff", sa.Column("must_change_password", sa.Boolean(), server_default="false", nullable=False))


def downgrade() -> None:
    op.drop_column("staff", "must_change_password")
    op.drop_column("person", "must_change_password")
    op.drop_column("mail", "secret")
    op.drop_index(op.f("ix_mail_link_organization_id"), table_name="mail_link")
    op.drop_index(op.f("ix_mail_link_expires_at"), table_name="mail_link")
    op.drop_index(op.f("ix_mail_link_email"), table_name="mail_link")
    op.drop_table("mail_link")
    op.drop_index(op.f("ix_join_request_state"), table_name="join_request")
    op.drop_index(op.f("ix_join_request_organization_id"), table_name="join_request")
    op.drop_index(op.f("ix_join_request_email"), table_name="join_request")
    op.drop_table("join_request")
