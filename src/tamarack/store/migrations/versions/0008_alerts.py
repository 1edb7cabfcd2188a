"""alerts, and what statements are made of: periods of subscriptions, adjustments, issued statements

Revision ID: 0008
Revises: 0007
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "alert",
        sa.Column("id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("rule", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("owner", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("paused", sa.Boolean(), nullable=False),
        sa.Column("state", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("since", sa.DateTime(timezone=True), nullable=True),
        sa.Column("held", sa.Integer(), nullable=False),
        sa.Column("value", sa.Float(), nullable=True),
        sa.Column("looked_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "alert_event",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("alert_id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("what", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("value", sa.Float(), nullable=True),
        sa.Column("mail_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["alert_id"], ["alert.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_alert_event_alert_id"), "alert_event", ["alert_id"], unique=False)
    op.create_index(op.f("ix_alert_event_at"), "alert_event", ["at"], unique=False)
    op.create_index(op.f("ix_alert_event_mail_at"), "alert_event", ["mail_at"], unique=False)
    op.create_table(
        "issued_statement",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("organization_id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("month", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("body", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("issued_by", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("issued_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["organization_id"],
            ["organization.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("organization_id", "month"),
    )
    op.create_index(op.f("ix_issued_statement_organization_id"), "issued_statement", ["organization_id"], unique=False)
    op.create_table(
        "statement_adjustment",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("organization_id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("month", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("words", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("amount", sa.Numeric(precision=16, scale=3), nullable=False),
        sa.Column("currency", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("made_by", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["organization_id"],
            ["organization.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(
        op.f("ix_statement_adjustment_organization_id"), "statement_adjustment", ["organization_id"], unique=False
    )
    op.create_table(
        "subscription_period",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("subscription_id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("plan", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("first", sa.DateTime(timezone=True), nullable=False),
        sa.Column("last", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["subscription_id"], ["subscription.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(
        op.f("ix_subscription_period_subscription_id"), "subscription_period", ["subscription_id"], unique=False
    )

    op.execute(
        "INSERT INTO subscription_period (subscription_id, plan, first)"
        " SELECT id, plan, made_at FROM subscription WHERE state = 'active'"
    )


def downgrade() -> None:
    op.drop_index(op.f("ix_subscription_period_subscription_id"), table_name="subscription_period")
    op.drop_table("subscription_period")
    op.drop_index(op.f("ix_statement_adjustment_organization_id"), table_name="statement_adjustment")
    op.drop_table("statement_adjustment")
    op.drop_index(op.f("ix_issued_statement_organization_id"), table_name="issued_statement")
    op.drop_table("issued_statement")
    op.drop_index(op.f("ix_alert_event_mail_at"), table_name="alert_event")
    op.drop_index(op.f("ix_alert_event_at"), table_name="alert_event")
    op.drop_index(op.f("ix_alert_event_alert_id"), table_name="alert_event")
    op.drop_table("alert_event")
    op.drop_table("alert")
