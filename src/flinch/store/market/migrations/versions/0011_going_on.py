"""a source that goes on by itself: how it runs, and where it is"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.create_table(
        "market_run",
        sa.Column("id", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("speed", sa.SmallInteger(), nullable=False),
        sa.Column("until", sa.DateTime(), nullable=True),
        sa.Column("behind", sa.Double(), nullable=False),
        sa.Column("alive_at", sa.DateTime(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "exchange_state",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("unfinished", sa.Boolean(), nullable=False),
        sa.Column("state", mysql.LONGBLOB(), nullable=False),
        sa.PrimaryKeyConstraint("session", "unfinished"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
