"""What was read in documents stands apart from their texts; all are read anew.

Revision ID: 0011
Revises: 0010
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    text = sqlmodel.sql.sqltypes.AutoString
    op.create_table(
        "document_reading",
        sa.Column("sha256", text(), nullable=False),
        sa.Column("state", text(), nullable=False),
        sa.Column("step", text(), nullable=False),
        sa.Column("asked_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("begun_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("described", JSONB(), nullable=True),
        sa.Column("tree", text(), nullable=False),
        sa.ForeignKeyConstraint(["sha256"], ["document.sha256"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("sha256"),
    )
    op.create_index("ix_document_reading_state", "document_reading", ["state"])
    op.add_column("document", sa.Column("kept", sa.Boolean(), nullable=False, server_default=sa.true()))
    op.alter_column("document", "kept", server_default=None)
    op.drop_column("document", "tree")
    # Versions name their documents in the draft, and in every configuration that was rolled out.
    op.execute(
        """
        INSERT INTO document_reading (sha256, state, step, asked_at, tree)
        SELECT DISTINCT d.sha256, 'waiting', '', now(), '' FROM document AS d
        JOIN (
            SELECT version ->> 'document' AS sha256 FROM draft_item,
                jsonb_array_elements(CASE WHEN jsonb_typeof(body -> 'versions') = 'array'
                                     THEN body -> 'versions' ELSE '[]' END) AS version
            WHERE kind = 'api'
            UNION
            SELECT version ->> 'document' FROM rollout,
                jsonb_array_elements(CASE WHEN jsonb_typeof(configuration -> 'apis') = 'array'
                                     THEN configuration -> 'apis' ELSE '[]' END) AS api,
                jsonb_array_elements(CASE WHEN jsonb_typeof(api -> 'versions') = 'array'
                                     THEN api -> 'versions' ELSE '[]' END) AS version
        ) AS named ON named.sha256 = d.sha256
        """
    )


def downgrade() -> None:
    op.add_column("document", sa.Column("tree", sqlmodel.sql.sqltypes.AutoString(), nullable=True))
    op.drop_column("document", "kept")
    op.drop_table("document_reading")
