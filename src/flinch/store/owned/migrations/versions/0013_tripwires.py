"""tripwires: what is waited for, what is remembered of it, and what tripped"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.create_table(
        "tripwire",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("market", sa.String(31), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("parked", sa.JSON(), nullable=False),
        sa.Column("rule", sa.JSON(), nullable=False),
        sa.Column("again", sa.JSON(), nullable=False),
        sa.Column("why", sa.JSON(), nullable=False),
        sa.Column("note", sa.String(500), nullable=False),
        sa.Column("armed_at", sa.DateTime(), nullable=True),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.Column("deleted_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(["owner_id"], ["owner.id"]),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index("ix_tripwire_owner_id", "tripwire", ["owner_id"])
    op.create_table(
        "tripwire_waiting",
        sa.Column("tripwire_id", sa.Integer(), nullable=False),
        sa.Column("armed_at", sa.DateTime(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("waiting", mysql.MEDIUMBLOB(), nullable=False),
        sa.Column("error", sa.String(300), nullable=True),
        sa.ForeignKeyConstraint(["tripwire_id"], ["tripwire.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("tripwire_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "trip",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("market", sa.String(31), nullable=False),
        sa.Column("tripwire_id", sa.Integer(), nullable=False),
        sa.Column("symbol", sa.String(12), nullable=False),
        sa.Column("moment", sa.DateTime(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("data_version", sa.Integer(), nullable=False),
        sa.Column("rule", sa.JSON(), nullable=False),
        sa.Column("numbers", sa.JSON(), nullable=False),
        sa.Column("price", sa.Double(), nullable=True),
        sa.Column("move", sa.Double(), nullable=True),
        sa.Column("missed", sa.Boolean(), nullable=False),
        sa.Column("told_at", sa.DateTime(), nullable=False),
        sa.Column("seen_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(["owner_id"], ["owner.id"]),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index("ix_trip_owner_id", "trip", ["owner_id"])
    op.create_index("trip_once", "trip", ["tripwire_id", "moment", "symbol"], unique=True)
    op.create_table(
        "watched_market",
        sa.Column("market", sa.String(31), nullable=False),
        sa.Column("moment", sa.DateTime(), nullable=False),
        sa.PrimaryKeyConstraint("market"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
