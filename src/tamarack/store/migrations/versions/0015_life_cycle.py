"""The life of versions: feedback on previews, who waits for them, planned steps, and letters.

Revision ID: 0015
Revises: 0014
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

TEXT = sqlmodel.sql.sqltypes.AutoString()


def _texts(*names: str) -> list[sa.Column]:  # type: ignore[type-arg]
    return [sa.Column(name, TEXT, nullable=False) for name in names]


def _moment(name: str, nullable: bool = False) -> sa.Column:  # type: ignore[type-arg]
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable)


def upgrade() -> None:
    op.create_table(
        "feedback",
        sa.Column("id", sa.Integer(), nullable=False),
        *_texts("api", "version", "call", "organization_id"),
        sa.Column("person_id", TEXT, nullable=True),
        *_texts("thumb", "text", "answer", "answered_by"),
        _moment("made_at"),
        _moment("answered_at", nullable=True),
        sa.ForeignKeyConstraint(["organization_id"], ["organization.id"]),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], ondelete="SET NULL"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_feedback_api", "feedback", ["api"])
    op.create_index("ix_feedback_organization_id", "feedback", ["organization_id"])
    op.create_table(
        "preview_reader",
        *_texts("api", "version", "person_id"),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("api", "version", "person_id"),
    )
    op.create_table(
        "planned_step",
        sa.Column("id", sa.Integer(), nullable=False),
        *_texts("api", "version", "state", "environment", "made_by", "standing", "settled_by", "outcome"),
        _moment("at"),
        _moment("made_at"),
        _moment("settled_at", nullable=True),
        sa.Column("rollout", sa.Integer(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_planned_step_api", "planned_step", ["api"])
    op.create_index("ix_planned_step_at", "planned_step", ["at"])
    op.create_table(
        "letter",
        sa.Column("id", sa.Integer(), nullable=False),
        *_texts("api", "version", "title", "text", "made_by"),
        _moment("made_at"),
        sa.Column("mailed", sa.Integer(), nullable=False),
        sa.Column("applications", postgresql.JSONB(), nullable=False, server_default="[]"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_letter_api", "letter", ["api"])


def downgrade() -> None:
    for table in ("letter", "planned_step", "preview_reader", "feedback"):
        op.drop_table(table)
