"""option trades, a name's session in one row, and the venues they were made on"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.create_table(
        "tape_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("fills", mysql.MEDIUMBLOB(), nullable=False),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "venue",
        sa.Column("id", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("name", sa.String(length=40), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
