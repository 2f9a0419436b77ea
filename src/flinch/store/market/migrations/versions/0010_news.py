"""headlines about names, or about none"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.create_table(
        "news_item",
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("headline", sa.String(length=300), nullable=False),
        sa.Column("topic", sa.String(length=40), nullable=False),
        sa.Column("import_id", sa.Integer(), nullable=True),
        sa.PrimaryKeyConstraint("name_id", "at"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index("ix_news_item_at", "news_item", ["at"])
