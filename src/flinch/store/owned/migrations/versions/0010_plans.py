"""plans"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.create_table(
        "plan",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("symbol", sa.String(length=12), nullable=False),
        sa.Column("legs", sa.String(length=400), nullable=False),
        sa.Column("label", sa.String(length=60), nullable=False),
        sa.Column("why", sa.JSON(), nullable=False),
        sa.Column("entry_limit", sa.Double(), nullable=True),
        sa.Column("exits", sa.JSON(), nullable=False),
        sa.Column("notes", sa.String(length=4000), nullable=False),
        sa.Column("made_on", sa.Date(), nullable=False),
        sa.Column("data_version", sa.Integer(), nullable=False),
        sa.Column("cost", sa.Double(), nullable=True),
        sa.Column("max_profit", sa.Double(), nullable=True),
        sa.Column("spot", sa.Double(), nullable=False),
        sa.Column("deleted_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(["owner_id"], ["owner.id"]),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index("ix_plan_owner_id", "plan", ["owner_id"])
