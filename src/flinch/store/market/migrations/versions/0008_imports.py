"""imports have a history, a row knows which one told it, and what was there before can be brought back"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0008"
down_revision = "0007"

TABLES = (
    "name", "daily_bar", "extended_day", "dividend", "earnings_report", "short_interest", "fund_member", "fundamental",
    "estimate", "chain_snapshot",
)  # fmt: skip


def upgrade() -> None:
    for table in TABLES:
        op.add_column(table, sa.Column("import_id", sa.Integer(), nullable=True))
    counts = ("rows", "added", "changed", "same", "refused")
    op.create_table(
        "data_import",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(length=20), nullable=False),
        sa.Column("source", sa.String(length=40), nullable=False),
        sa.Column("file", sa.String(length=120), nullable=False),
        sa.Column("how", sa.JSON(), nullable=False),
        sa.Column("state", sa.String(length=12), nullable=False),
        *[sa.Column(name, sa.BigInteger(), nullable=False) for name in counts],
        sa.Column("moments", sa.JSON(), nullable=False),
        sa.Column("began_at", sa.DateTime(), nullable=False),
        sa.Column("ended_at", sa.DateTime(), nullable=True),
        sa.Column("kept", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "import_before",
        sa.Column("import_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("place", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("table_name", sa.String(length=40), nullable=False),
        sa.Column("rows", mysql.LONGBLOB(), nullable=False),
        sa.PrimaryKeyConstraint("import_id", "place"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "fundamental_source",
        sa.Column("id", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("name", sa.String(length=40), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "other_row",
        sa.Column("kind", sa.String(length=20), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("source", sa.String(length=40), nullable=False),
        sa.Column("told", sa.String(length=2000), nullable=False),
        sa.Column("import_id", sa.Integer(), nullable=True),
        sa.PrimaryKeyConstraint("kind", "day", "name_id", "source"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "source_order",
        sa.Column("kind", sa.String(length=20), nullable=False),
        sa.Column("place", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("source", sa.String(length=40), nullable=False),
        sa.PrimaryKeyConstraint("kind", "place"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
