"""sessions have hours, prices splits, rates days, and open interest may come without chains"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    # What was loaded before this has the hours of New York.
    op.add_column("exchange_session", sa.Column("opens", sa.String(length=5), server_default="09:30", nullable=False))
    op.add_column("exchange_session", sa.Column("closes", sa.String(length=5), server_default="16:00", nullable=False))
    op.create_table(
        "split",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("ex_date", sa.Date(), nullable=False),
        sa.Column("ratio", sa.Double(), nullable=False),
        sa.Column("import_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(["name_id"], ["name.id"]),
        sa.PrimaryKeyConstraint("name_id", "ex_date"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "rate_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("days", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("rate", sa.Double(), nullable=False),
        sa.Column("import_id", sa.Integer(), nullable=True),
        sa.PrimaryKeyConstraint("session", "days"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "interest_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("contracts", mysql.MEDIUMBLOB(), nullable=False),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
