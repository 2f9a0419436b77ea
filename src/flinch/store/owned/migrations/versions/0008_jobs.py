"""jobs"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.create_table(
        "job",
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(length=32), nullable=False),
        sa.Column("asked", sa.JSON(), nullable=False),
        sa.Column("state", sa.String(length=12), nullable=False),
        sa.Column("percent", sa.SmallInteger(), nullable=False),
        sa.Column("stage", sa.String(length=200), nullable=False),
        sa.Column("answer", mysql.MEDIUMTEXT(), nullable=True),
        sa.Column("submitted_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(["owner_id"], ["owner.id"]),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index("ix_job_owner_id", "job", ["owner_id"])
    op.create_index("ix_job_state", "job", ["state"])
