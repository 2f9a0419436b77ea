"""what a name's option trades of a session came to"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.create_table(
        "flow_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("call_ask_premium", sa.Float(), nullable=False),
        sa.Column("call_bid_premium", sa.Float(), nullable=False),
        sa.Column("call_mid_premium", sa.Float(), nullable=False),
        sa.Column("put_ask_premium", sa.Float(), nullable=False),
        sa.Column("put_bid_premium", sa.Float(), nullable=False),
        sa.Column("put_mid_premium", sa.Float(), nullable=False),
        sa.Column("package_premium", sa.Float(), nullable=False),
        sa.Column("sweep_premium", sa.Float(), nullable=False),
        sa.Column("outside_call_premium", sa.Float(), nullable=False),
        sa.Column("opening_call_premium", sa.Float(), nullable=False),
        sa.Column("opening_put_premium", sa.Float(), nullable=False),
        sa.Column("largest_call_premium", sa.Float(), nullable=False),
        sa.Column("largest_put_premium", sa.Float(), nullable=False),
        sa.Column("ask_contracts", sa.BigInteger(), nullable=False),
        sa.Column("bid_contracts", sa.BigInteger(), nullable=False),
        sa.Column("tickets", sa.Integer(), nullable=False),
        sa.Column("repeats", sa.Integer(), nullable=False),
        sa.Column("net_shares", sa.Float(), nullable=False),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
