"""Times in which nodes were not heard of.

Revision ID: 0028
Revises: 0027
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None


def upgrade() -> None:
    text = sqlmodel.sql.sqltypes.AutoString()
    moment = sa.DateTime(timezone=True)
    op.create_table(
        "node_silence",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("node", text, nullable=False),
        sa.Column("environment", text, nullable=False),
        sa.Column("since", moment, nullable=False),
        sa.Column("until", moment, nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_node_silence_node", "node_silence", ["node"])
    op.create_index("ix_node_silence_until", "node_silence", ["until"])


def downgrade() -> None:
    op.drop_table("node_silence")
