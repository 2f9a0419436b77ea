"""what a market is: its calendar, currency, index and rate are its own; not every source tells since when a name is listed"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.alter_column("name", "listed_on", existing_type=sa.Date(), nullable=True)
    op.create_table(
        "market_setting",
        sa.Column("id", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("calendar", sa.String(length=8), nullable=False),
        sa.Column("currency", sa.String(length=3), nullable=False),
        sa.Column("index_symbol", sa.String(length=12), nullable=True),
        sa.Column("rate", sa.Double(), nullable=False),
        sa.Column("zone", sa.String(length=40), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
