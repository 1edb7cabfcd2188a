"""meter

Revision ID: 0003
Revises: 0002
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "mail",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("to", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("subject", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("text", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("sent_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("next_try_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("problem", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_mail_next_try_at"), "mail", ["next_try_at"], unique=False)
    op.create_index(op.f("ix_mail_sent_at"), "mail", ["sent_at"], unique=False)
    op.create_index(op.f("ix_mail_to"), "mail", ["to"], unique=False)
    op.create_table(
        "quota_used",
        sa.Column("environment", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("quota", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("key", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("start", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ends", sa.DateTime(timezone=True), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("allowed", sa.BigInteger(), nullable=False),
        sa.Column("told", sa.Integer(), nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("environment", "quota", "key", "start"),
    )
    op.create_index(op.f("ix_quota_used_ends"), "quota_used", ["ends"], unique=False)
    op.create_table(
        "notice",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("organization_id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("application_id", sqlmodel.sql.sqltypes.AutoString(), nullable=True),
        sa.Column("title", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("text", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["application_id"],
            ["application.id"],
        ),
        sa.ForeignKeyConstraint(
            ["organization_id"],
            ["organization.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_notice_application_id"), "notice", ["application_id"], unique=False)
    op.create_index(op.f("ix_notice_made_at"), "notice", ["made_at"], unique=False)
    op.create_index(op.f("ix_notice_organization_id"), "notice", ["organization_id"], unique=False)
    op.add_column("call", sa.Column("held_us", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("call", sa.Column("mark", sqlmodel.sql.sqltypes.AutoString(), server_default="", nullable=False))
    op.add_column("node", sa.Column("counting", sqlmodel.sql.sqltypes.AutoString(), server_default="", nullable=False))
    op.add_column("node", sa.Column("switched", sa.Integer(), server_default="0", nullable=False))
    op.add_column("node", sa.Column("without", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("rollup", sa.Column("held", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("rollup", sa.Column("held_us", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("rollup", sa.Column("marked", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column(
        "subscription", sa.Column("next_plan", sqlmodel.sql.sqltypes.AutoString(), server_default="", nullable=False)
    )
    op.add_column("subscription", sa.Column("next_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("subscription", sa.Column("quota_round", sa.Integer(), server_default="0", nullable=False))
    op.add_column("subscription", sa.Column("extra_start", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("subscription", sa.Column("extra_calls", sa.BigInteger(), server_default="0", nullable=False))
    # Nodes count a quota from the subscription's start, so they have to hear of it.
    op.execute(
        "UPDATE feed_item SET body = body || jsonb_build_object('since', extract(epoch FROM s.made_at)),"
        " seq = (SELECT max(seq) FROM feed_item) + s.place"
        " FROM (SELECT id, made_at, row_number() OVER (ORDER BY id) AS place FROM subscription) AS s"
        " WHERE feed_item.kind = 'subscription' AND feed_item.key = s.id AND feed_item.body IS NOT NULL"
    )


def downgrade() -> None:
    op.drop_column("subscription", "extra_calls")
    op.drop_column("subscription", "extra_start")
    op.drop_column("subscription", "quota_round")
    op.drop_column("subscription", "next_at")
    op.drop_column("subscription", "next_plan")
    op.drop_column("rollup", "marked")
    op.drop_column("rollup", "held_us")
    op.drop_column("rollup", "held")
    op.drop_column("node", "without")
    op.drop_column("node", "switched")
    op.drop_column("node", "counting")
    op.drop_column("call", "mark")
    op.drop_column("call", "held_us")
    op.drop_index(op.f("ix_notice_organization_id"), table_name="notice")
    op.drop_index(op.f("ix_notice_made_at"), table_name="notice")
    op.drop_index(op.f("ix_notice_application_id"), table_name="notice")
    op.drop_table("notice")
    op.drop_index(op.f("ix_quota_used_ends"), table_name="quota_used")
    op.drop_table("quota_used")
    op.drop_index(op.f("ix_mail_to"), table_name="mail")
    op.drop_index(op.f("ix_mail_sent_at"), table_name="mail")
    op.drop_index(op.f("ix_mail_next_try_at"), table_name="mail")
    op.drop_table("mail")
