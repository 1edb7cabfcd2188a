"""The log of prompts.

Revision ID: 0024
Revises: 0023
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None

TEXT = sqlmodel.sql.sqltypes.AutoString()
_TEXTS = ("policy", "environment", "api", "version", "operation", "organization", "application", "model", "reason",
          "question", "answer")  # fmt: skip


def upgrade() -> None:
    op.create_table(
        "logged_prompt",
        sa.Column("call", TEXT, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("until", sa.DateTime(timezone=True), nullable=False),
        *(sa.Column(name, TEXT, nullable=False) for name in _TEXTS),
        sa.Column("status", sa.Integer(), nullable=False),
        sa.Column("texts", JSONB(), nullable=False),
        sa.Column("cut", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("call"),
    )
    op.create_index("ix_logged_prompt_at", "logged_prompt", ["at"])
    op.create_index("ix_logged_prompt_until", "logged_prompt", ["until"])


def downgrade() -> None:
    op.drop_table("logged_prompt")
