"""traffic: calls with end user, cache, tokens and stage times; roll-ups by the day, with keys of their own

Revision ID: 0006
Revises: 0005
"""

# ruff: noqa: S608 - what is put together are names of this module; what people typed is bound

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


_KEY = "environment, api, version, operation, status, reason, organization, application, plan, target"
_PACKED = """(SELECT coalesce(string_agg(int2send(bucket::int2) || int4send(many::int4), ''::bytea ORDER BY bucket), ''::bytea)
  FROM unnest(r.buckets, r.counts) AS pairs(bucket, many))"""
_COLUMNS = """start, key, calls, asked, held, marked, total_us, backend_us, held_us, request_bytes, response_bytes,
  prompt_tokens, completion_tokens, histogram, backend_histogram, gateway_histogram"""


def _take_over() -> None:
    """Bring what was rolled up into the new tables. Its shortest and longest times, and the times of backends and
    gateway by themselves, were not kept; `rebuild-rollups` makes them from the calls."""
    op.execute(f"INSERT INTO rollup_key ({_KEY}, cache) SELECT DISTINCT {_KEY}, '' FROM rollup")
    op.execute("""DO $$ DECLARE day date; BEGIN
      FOR day IN SELECT DISTINCT (start AT TIME ZONE 'UTC')::date FROM rollup WHERE grain = 'minute' LOOP
        EXECUTE format('CREATE TABLE rollup_minute_%s PARTITION OF rollup_minute FOR VALUES FROM (%L) TO (%L)',
                       to_char(day, 'YYYYMMDD'), day || ' 00:00:00+00', (day + 1) || ' 00:00:00+00');
      END LOOP; END $$""")
    same = " AND ".join(f"k.{column} = r.{column}" for column in _KEY.split(", "))
    for grain in ("minute", "hour"):
        op.execute(
            f"INSERT INTO rollup_{grain} ({_COLUMNS}) SELECT r.start, k.id, r.calls,"
            " CASE WHEN r.target <> '' THEN r.calls ELSE 0 END, r.held, r.marked, r.total_us, r.backend_us, r.held_us,"
            f" r.request_bytes, r.response_bytes, 0, 0, {_PACKED}, ''::bytea, ''::bytea"
            f" FROM rollup AS r JOIN rollup_key AS k ON {same} AND k.cache = '' WHERE r.grain = '{grain}'"
        )
    sums = "calls, asked, held, marked, total_us, backend_us, held_us, request_bytes, response_bytes"
    summed = ", ".join(f"sum({column})" for column in sums.split(", "))
    for grain, length, finer in (
        ("ten_minutes", "10 minutes", "minute"),
        ("six_hours", "6 hours", "hour"),
        ("day", "1 day", "hour"),
    ):
        op.execute(
            f"INSERT INTO rollup_{grain} ({_COLUMNS})"
            f" SELECT date_bin('{length}', start, TIMESTAMPTZ '1970-01-01 00:00:00+00'), key, {summed}, 0, 0,"
            f" string_agg(histogram, ''::bytea), ''::bytea, ''::bytea FROM rollup_{finer} GROUP BY 1, 2"
        )


def upgrade() -> None:
    op.create_table(
        "rollup_day",
        sa.Column("start", sa.DateTime(timezone=True), nullable=False),
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("asked", sa.BigInteger(), nullable=False),
        sa.Column("held", sa.BigInteger(), nullable=False),
        sa.Column("marked", sa.BigInteger(), nullable=False),
        sa.Column("total_us", sa.BigInteger(), nullable=False),
        sa.Column("backend_us", sa.BigInteger(), nullable=False),
        sa.Column("held_us", sa.BigInteger(), nullable=False),
        sa.Column("request_bytes", sa.BigInteger(), nullable=False),
        sa.Column("response_bytes", sa.BigInteger(), nullable=False),
        sa.Column("prompt_tokens", sa.BigInteger(), nullable=False),
        sa.Column("completion_tokens", sa.BigInteger(), nullable=False),
        sa.Column("min_us", sa.BigInteger(), nullable=True),
        sa.Column("max_us", sa.BigInteger(), nullable=True),
        sa.Column("histogram", sa.LargeBinary(), nullable=False),
        sa.Column("backend_histogram", sa.LargeBinary(), nullable=False),
        sa.Column("gateway_histogram", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("start", "key"),
    )
    op.create_table(
        "rollup_hour",
        sa.Column("start", sa.DateTime(timezone=True), nullable=False),
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("asked", sa.BigInteger(), nullable=False),
        sa.Column("held", sa.BigInteger(), nullable=False),
        sa.Column("marked", sa.BigInteger(), nullable=False),
        sa.Column("total_us", sa.BigInteger(), nullable=False),
        sa.Column("backend_us", sa.BigInteger(), nullable=False),
        sa.Column("held_us", sa.BigInteger(), nullable=False),
        sa.Column("request_bytes", sa.BigInteger(), nullable=False),
        sa.Column("response_bytes", sa.BigInteger(), nullable=False),
        sa.Column("prompt_tokens", sa.BigInteger(), nullable=False),
        sa.Column("completion_tokens", sa.BigInteger(), nullable=False),
        sa.Column("min_us", sa.BigInteger(), nullable=True),
        sa.Column("max_us", sa.BigInteger(), nullable=True),
        sa.Column("histogram", sa.LargeBinary(), nullable=False),
        sa.Column("backend_histogram", sa.LargeBinary(), nullable=False),
        sa.Column("gateway_histogram", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("start", "key"),
    )
    op.create_table(
        "rollup_six_hours",
        sa.Column("start", sa.DateTime(timezone=True), nullable=False),
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("asked", sa.BigInteger(), nullable=False),
        sa.Column("held", sa.BigInteger(), nullable=False),
        sa.Column("marked", sa.BigInteger(), nullable=False),
        sa.Column("total_us", sa.BigInteger(), nullable=False),
        sa.Column("backend_us", sa.BigInteger(), nullable=False),
        sa.Column("held_us", sa.BigInteger(), nullable=False),
        sa.Column("request_bytes", sa.BigInteger(), nullable=False),
        sa.Column("response_bytes", sa.BigInteger(), nullable=False),
        sa.Column("prompt_tokens", sa.BigInteger(), nullable=False),
        sa.Column("completion_tokens", sa.BigInteger(), nullable=False),
        sa.Column("min_us", sa.BigInteger(), nullable=True),
        sa.Column("max_us", sa.BigInteger(), nullable=True),
        sa.Column("histogram", sa.LargeBinary(), nullable=False),
        sa.Column("backend_histogram", sa.LargeBinary(), nullable=False),
        sa.Column("gateway_histogram", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("start", "key"),
    )
    op.create_table(
        "rollup_ten_minutes",
        sa.Column("start", sa.DateTime(timezone=True), nullable=False),
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("asked", sa.BigInteger(), nullable=False),
        sa.Column("held", sa.BigInteger(), nullable=False),
        sa.Column("marked", sa.BigInteger(), nullable=False),
        sa.Column("total_us", sa.BigInteger(), nullable=False),
        sa.Column("backend_us", sa.BigInteger(), nullable=False),
        sa.Column("held_us", sa.BigInteger(), nullable=False),
        sa.Column("request_bytes", sa.BigInteger(), nullable=False),
        sa.Column("response_bytes", sa.BigInteger(), nullable=False),
        sa.Column("prompt_tokens", sa.BigInteger(), nullable=False),
        sa.Column("completion_tokens", sa.BigInteger(), nullable=False),
        sa.Column("min_us", sa.BigInteger(), nullable=True),
        sa.Column("max_us", sa.BigInteger(), nullable=True),
        sa.Column("histogram", sa.LargeBinary(), nullable=False),
        sa.Column("backend_histogram", sa.LargeBinary(), nullable=False),
        sa.Column("gateway_histogram", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("start", "key"),
    )
    op.create_table(
        "rollup_key",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("environment", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("api", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("version", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("operation", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("status", sa.Integer(), nullable=False),
        sa.Column("reason", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("organization", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("application", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("plan", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("target", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("cache", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint(
            "environment",
            "api",
            "version",
            "operation",
            "status",
            "reason",
            "organization",
            "application",
            "plan",
            "target",
            "cache",
            name="rollup_key_is_one",
        ),
    )
    op.create_table(
        "rollup_minute",
        sa.Column("start", sa.DateTime(timezone=True), nullable=False),
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("asked", sa.BigInteger(), nullable=False),
        sa.Column("held", sa.BigInteger(), nullable=False),
        sa.Column("marked", sa.BigInteger(), nullable=False),
        sa.Column("total_us", sa.BigInteger(), nullable=False),
        sa.Column("backend_us", sa.BigInteger(), nullable=False),
        sa.Column("held_us", sa.BigInteger(), nullable=False),
        sa.Column("request_bytes", sa.BigInteger(), nullable=False),
        sa.Column("response_bytes", sa.BigInteger(), nullable=False),
        sa.Column("prompt_tokens", sa.BigInteger(), nullable=False),
        sa.Column("completion_tokens", sa.BigInteger(), nullable=False),
        sa.Column("min_us", sa.BigInteger(), nullable=True),
        sa.Column("max_us", sa.BigInteger(), nullable=True),
        sa.Column("histogram", sa.LargeBinary(), nullable=False),
        sa.Column("backend_histogram", sa.LargeBinary(), nullable=False),
        sa.Column("gateway_histogram", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("start", "key"),
        postgresql_partition_by="RANGE (start)",
    )
    _take_over()
    op.drop_table("rollup")
    op.add_column("call", sa.Column("end_user", sqlmodel.sql.sqltypes.AutoString(), server_default="", nullable=False))
    op.add_column("call", sa.Column("cache", sqlmodel.sql.sqltypes.AutoString(), server_default="", nullable=False))
    op.add_column("call", sa.Column("prompt_tokens", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("call", sa.Column("completion_tokens", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("call", sa.Column("stages_ns", postgresql.ARRAY(sa.Integer()), server_default="{}", nullable=False))
    op.add_column("call", sa.Column("batch", sa.BigInteger(), server_default="0", nullable=False))
    op.drop_index("call_at", table_name="call")
    op.add_column("call_batch", sa.Column("number", sa.BigInteger(), sa.Identity(always=True), nullable=False))
    op.add_column("call_batch", sa.Column("first", sa.DateTime(timezone=True), nullable=True))
    op.add_column("call_batch", sa.Column("last", sa.DateTime(timezone=True), nullable=True))
    op.create_unique_constraint("call_batch_number_key", "call_batch", ["number"])


def downgrade() -> None:
    """The roll-ups are left empty; `rebuild-rollups` makes them from the calls."""
    op.drop_constraint("call_batch_number_key", "call_batch", type_="unique")
    op.drop_column("call_batch", "last")
    op.drop_column("call_batch", "first")
    op.drop_column("call_batch", "number")
    op.create_index("call_at", "call", ["at"], unique=False)
    op.drop_column("call", "batch")
    op.drop_column("call", "stages_ns")
    op.drop_column("call", "completion_tokens")
    op.drop_column("call", "prompt_tokens")
    op.drop_column("call", "cache")
    op.drop_column("call", "end_user")
    op.create_table(
        "rollup",
        sa.Column("grain", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("start", postgresql.TIMESTAMP(timezone=True), autoincrement=False, nullable=False),
        sa.Column("environment", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("api", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("version", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("operation", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("status", sa.INTEGER(), autoincrement=False, nullable=False),
        sa.Column("reason", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("organization", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("application", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("plan", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("target", sa.VARCHAR(), autoincrement=False, nullable=False),
        sa.Column("calls", sa.BIGINT(), autoincrement=False, nullable=False),
        sa.Column("total_us", sa.BIGINT(), autoincrement=False, nullable=False),
        sa.Column("backend_us", sa.BIGINT(), autoincrement=False, nullable=False),
        sa.Column("request_bytes", sa.BIGINT(), autoincrement=False, nullable=False),
        sa.Column("response_bytes", sa.BIGINT(), autoincrement=False, nullable=False),
        sa.Column("buckets", postgresql.ARRAY(sa.INTEGER()), autoincrement=False, nullable=False),
        sa.Column("counts", postgresql.ARRAY(sa.BIGINT()), autoincrement=False, nullable=False),
        sa.Column("held", sa.BIGINT(), server_default=sa.text("'0'::bigint"), autoincrement=False, nullable=False),
        sa.Column("held_us", sa.BIGINT(), server_default=sa.text("'0'::bigint"), autoincrement=False, nullable=False),
        sa.Column("marked", sa.BIGINT(), server_default=sa.text("'0'::bigint"), autoincrement=False, nullable=False),
        sa.PrimaryKeyConstraint(
            "grain",
            "start",
            "environment",
            "api",
            "version",
            "operation",
            "status",
            "reason",
            "organization",
            "application",
            "plan",
            "target",
            name=op.f("rollup_pkey"),
        ),
    )
    op.drop_table("rollup_minute")
    op.drop_table("rollup_key")
    op.drop_table("rollup_six_hours")
    op.drop_table("rollup_ten_minutes")
    op.drop_table("rollup_hour")
    op.drop_table("rollup_day")
