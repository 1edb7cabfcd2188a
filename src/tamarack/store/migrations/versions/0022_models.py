"""Calls say which language model was asked and which answered, what was cached, and up to three dimensions of a team's
own; roll-ups know the model, and how long models took.

Revision ID: 0022
Revises: 0021
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None

_TEXTS = ("model", "model_served", "own_1", "own_2", "own_3")
_NUMBERS = ("cached_tokens", "first_us")
_ROLLUPS = ("minute", "ten_minutes", "hour", "six_hours", "day")
_SUMS = ("cached_tokens", "firsts", "first_us", "telling_us")
_KEY = "environment, api, version, operation, status, reason, organization, application, plan, target, cache"


def _text(name: str) -> sa.Column[str]:
    return sa.Column(name, sqlmodel.sql.sqltypes.AutoString(), nullable=False, server_default="")


def _number(name: str) -> sa.Column[int]:
    return sa.Column(name, sa.BigInteger(), nullable=False, server_default="0")


def upgrade() -> None:
    for name in _TEXTS:
        op.add_column("call", _text(name))
    for name in _NUMBERS:
        op.add_column("call", _number(name))
    for grain in _ROLLUPS:
        for name in _SUMS:
            op.add_column(f"rollup_{grain}", _number(name))
    op.add_column("rollup_key", _text("model"))
    op.drop_constraint("rollup_key_is_one", "rollup_key")
    op.create_unique_constraint("rollup_key_is_one", "rollup_key", [*_KEY.split(", "), "model"])


def downgrade() -> None:
    # Totals of one key that differ in the model alone cannot be told apart any more: those of models are left out.
    for grain in _ROLLUPS:
        op.execute(f"DELETE FROM rollup_{grain} WHERE key IN (SELECT id FROM rollup_key WHERE model <> '')")  # noqa: S608
        for name in _SUMS:
            op.drop_column(f"rollup_{grain}", name)
    op.execute("DELETE FROM rollup_key WHERE model <> ''")
    op.drop_constraint("rollup_key_is_one", "rollup_key")
    op.drop_column("rollup_key", "model")
    op.create_unique_constraint("rollup_key_is_one", "rollup_key", _KEY.split(", "))
    for name in (*_TEXTS, *_NUMBERS):
        op.drop_column("call", name)
