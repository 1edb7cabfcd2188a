"""portal

Revision ID: 0005
Revises: 0004
"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "announcement",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("api", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("version", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("title", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("text", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("readers", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("made_by", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("mailed", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_announcement_api"), "announcement", ["api"], unique=False)
    op.create_index(op.f("ix_announcement_made_at"), "announcement", ["made_at"], unique=False)
    op.create_table(
        "branding",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("body", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("changed_by", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "catalogue_entry",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("api", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("version", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("place", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("title", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("summary", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("text", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column(
            "words",
            postgresql.TSVECTOR(),
            sa.Computed(
                "setweight(to_tsvector('english', title), 'A') || setweight(to_tsvector('english', summary), 'B')"
                " || setweight(to_tsvector('english', text), 'C')",
                persisted=True,
            ),
            nullable=True,
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_catalogue_entry_api"), "catalogue_entry", ["api"], unique=False)
    op.create_index("ix_catalogue_entry_words", "catalogue_entry", ["words"], unique=False, postgresql_using="gin")
    op.create_table(
        "picture",
        sa.Column("sha256", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("sha256"),
    )
    op.create_table(
        "application_share",
        sa.Column("application_id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("person_id", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("made_by", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.ForeignKeyConstraint(["application_id"], ["application.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("application_id", "person_id"),
    )
    op.create_index(op.f("ix_application_share_person_id"), "application_share", ["person_id"], unique=False)
    op.add_column(
        "application", sa.Column("picture", sqlmodel.sql.sqltypes.AutoString(), server_default="", nullable=False)
    )
    # Until now every member saw every application of their organization; nothing is taken out of their sight.
    op.execute(
        "INSERT INTO application_share (application_id, person_id, made_at, made_by)"
        " SELECT application.id, person.id, now(), 'migration' FROM application"
        " JOIN person ON person.organization_id = application.organization_id AND person.role = 'member'"
    )
    op.add_column("document", sa.Column("tree", sqlmodel.sql.sqltypes.AutoString(), nullable=True))


def downgrade() -> None:
    op.drop_column("document", "tree")
    op.drop_column("application", "picture")
    op.drop_index(op.f("ix_application_share_person_id"), table_name="application_share")
    op.drop_table("application_share")
    op.drop_table("picture")
    op.drop_index("ix_catalogue_entry_words", table_name="catalogue_entry", postgresql_using="gin")
    op.drop_index(op.f("ix_catalogue_entry_api"), table_name="catalogue_entry")
    op.drop_table("catalogue_entry")
    op.drop_table("branding")
    op.drop_index(op.f("ix_announcement_made_at"), table_name="announcement")
    op.drop_index(op.f("ix_announcement_api"), table_name="announcement")
    op.drop_table("announcement")
