"""the first tables"""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "market_state",
        sa.Column("id", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("source", sa.String(length=40), nullable=False),
        sa.Column("source_version", sa.Integer(), nullable=False),
        sa.Column("as_of", sa.DateTime(), nullable=False),
        sa.Column("rate", sa.Double(), nullable=False),
        sa.Column("data_version", sa.Integer(), nullable=False),
        sa.Column("complete", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "name",
        sa.Column("id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("symbol", sa.String(length=12), nullable=False),
        sa.Column("company", sa.String(length=80), nullable=False),
        sa.Column("kind", sa.String(length=8), nullable=False),
        sa.Column("sector", sa.String(length=40), nullable=False),
        sa.Column("listed_on", sa.Date(), nullable=False),
        sa.Column("shares_outstanding", sa.Double(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("symbol"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "owner",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "daily_bar",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("open", sa.Double(), nullable=False),
        sa.Column("high", sa.Double(), nullable=False),
        sa.Column("low", sa.Double(), nullable=False),
        sa.Column("close", sa.Double(), nullable=False),
        sa.Column("volume", sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "session"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "earnings_report",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("timing", sa.String(length=12), nullable=False),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "session"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "expiry_volatility",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("expiration", sa.Date(), nullable=False),
        sa.Column("years", sa.Double(), nullable=False),
        sa.Column("forward", sa.Double(), nullable=True),
        sa.Column("forward_from_parity", sa.Boolean(), nullable=False),
        sa.Column("vol", sa.Double(), nullable=True),
        sa.Column("strikes", sa.Integer(), nullable=False),
        sa.Column("straddle", sa.Double(), nullable=True),
        sa.Column("straddle_strike", sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "session", "expiration"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "option_activity",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("volume", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "session"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "option_quote",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("expiration", sa.Date(), nullable=False),
        sa.Column("strike", sa.Double(), nullable=False),
        sa.Column("is_call", sa.Boolean(), nullable=False),
        sa.Column("bid", sa.Double(), nullable=True),
        sa.Column("ask", sa.Double(), nullable=True),
        sa.Column("volume", sa.Integer(), nullable=False),
        sa.Column("open_interest", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "taken_at", "expiration", "strike", "is_call"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "tray_entry",
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("symbol", sa.String(length=12), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("why", sa.JSON(), nullable=False),
        sa.Column("added_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["owner_id"],
            ["owner.id"],
        ),
        sa.PrimaryKeyConstraint("owner_id", "symbol"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "tray_step",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("what", sa.String(length=120), nullable=False),
        sa.Column("before", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(
            ["owner_id"],
            ["owner.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index(op.f("ix_tray_step_owner_id"), "tray_step", ["owner_id"], unique=False)
    op.create_table(
        "volatility_day",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("iv7", sa.Double(), nullable=True),
        sa.Column("iv14", sa.Double(), nullable=True),
        sa.Column("iv30", sa.Double(), nullable=True),
        sa.Column("iv60", sa.Double(), nullable=True),
        sa.Column("iv90", sa.Double(), nullable=True),
        sa.Column("iv180", sa.Double(), nullable=True),
        sa.Column("iv365", sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "session"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
