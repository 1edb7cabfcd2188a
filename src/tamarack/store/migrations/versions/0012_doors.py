"""Sessions kept by the server; what strangers ask for is answered by the worker; where secrets may be sent.

Revision ID: 0012
Revises: 0011
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    text = sqlmodel.sql.sqltypes.AutoString
    op.create_table(
        "signed_in",
        sa.Column("digest", text(), nullable=False),
        sa.Column("door", text(), nullable=False),
        sa.Column("who", text(), nullable=False),
        sa.Column("epoch", sa.Integer(), nullable=False),
        sa.Column("address", text(), nullable=False),
        sa.Column("agent", text(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("seen_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("digest"),
    )
    for column in ("who", "made_at", "seen_at"):
        op.create_index(f"ix_signed_in_{column}", "signed_in", [column])
    op.create_table(
        "join_ask",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("purpose", text(), nullable=False),
        sa.Column("email", text(), nullable=False),
        sa.Column("said", JSONB(), nullable=False),
        sa.Column("asked_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.add_column("secret", sa.Column("hosts", JSONB(), nullable=False, server_default="[]"))
    # Secrets that backends are signed in to with go on being sent there.
    op.execute(
        """
        UPDATE secret AS s SET hosts = used.hosts FROM (
            SELECT name, jsonb_agg(DISTINCT host) AS hosts FROM (
                SELECT body ->> 'sign_in_secret' AS name,
                    lower(substring(target ->> 'address' FROM '^[a-z]+://([^/]+)')) AS host
                FROM (
                    SELECT body FROM draft_item WHERE kind = 'backend'
                    UNION ALL
                    SELECT backend FROM rollout, jsonb_array_elements(
                        CASE WHEN jsonb_typeof(configuration -> 'backends') = 'array'
                        THEN configuration -> 'backends' ELSE '[]' END) AS backend
                ) AS backends (body), jsonb_array_elements(body -> 'targets') AS target
            ) AS sent WHERE coalesce(name, '') <> '' GROUP BY name
        ) AS used WHERE used.name = s.name
        """
    )


def downgrade() -> None:
    op.drop_column("secret", "hosts")
    op.drop_table("join_ask")
    op.drop_table("signed_in")
