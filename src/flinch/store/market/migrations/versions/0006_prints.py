"""off-exchange prints, a name's session in one row"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.create_table(
        "print_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("prints", mysql.MEDIUMBLOB(), nullable=False),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
