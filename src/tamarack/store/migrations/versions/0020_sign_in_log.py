"""The sign-in log.

Revision ID: 0020
Revises: 0019
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None

TEXT = sqlmodel.sql.sqltypes.AutoString()


def upgrade() -> None:
    op.create_table(
        "sign_in_event",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("directory", TEXT, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("what", TEXT, nullable=False),
        sa.Column("refused", sa.Boolean(), nullable=False),
        sa.Column("why", TEXT, nullable=False),
        sa.Column("user_id", TEXT, nullable=True),
        sa.Column("who", TEXT, nullable=False),
        sa.Column("client_id", TEXT, nullable=False),
        sa.Column("address", TEXT, nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    for column in ("directory", "at", "user_id"):
        op.create_index(f"ix_sign_in_event_{column}", "sign_in_event", [column])


def downgrade() -> None:
    op.drop_table("sign_in_event")
