"""keys that begin with the session, chains and minutes in one row a name, single precision; jobs

What these tables hold is a feed's to load: they are made anew, and the demo market with them.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0003"
down_revision = "0002"

_BEFORE = (
    "daily_bar",
    "extended_day",
    "minute_bar",
    "option_day",
    "volatility_day",
    "snapshot_price",
    "position",
    "option_quote",
    "expiry_volatility",
    "surface_day",
)


def upgrade() -> None:
    for table in _BEFORE:
        op.drop_table(table)
    state = "market_state"
    op.add_column(state, sa.Column("load_id", sa.String(length=32), nullable=False, server_default=""))
    op.add_column(state, sa.Column("past_version", sa.Integer(), nullable=False, server_default=sa.text("0")))
    op.execute("UPDATE market_state SET complete = 0")
    op.alter_column(state, "load_id", existing_type=sa.String(length=32), existing_nullable=False, server_default=None)
    op.alter_column(state, "past_version", existing_type=sa.Integer(), existing_nullable=False, server_default=None)
    op.drop_column(state, "coming")
    op.drop_column(state, "coming_percent")
    op.create_table(
        "market_job",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(length=32), nullable=False),
        sa.Column("asked", sa.JSON(), nullable=False),
        sa.Column("state", sa.String(length=12), nullable=False),
        sa.Column("percent", sa.SmallInteger(), nullable=False),
        sa.Column("stage", sa.String(length=200), nullable=False),
        sa.Column("answer", mysql.MEDIUMTEXT(), nullable=True),
        sa.Column("submitted_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index("ix_market_job_state", "market_job", ["state"])
    op.create_table(
        "daily_bar",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("open", sa.Double(), nullable=False),
        sa.Column("high", sa.Double(), nullable=False),
        sa.Column("low", sa.Double(), nullable=False),
        sa.Column("close", sa.Double(), nullable=False),
        sa.Column("volume", sa.Double(), nullable=True),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "extended_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("pre_high", sa.Double(), nullable=True),
        sa.Column("pre_low", sa.Double(), nullable=True),
        sa.Column("pre_last", sa.Double(), nullable=True),
        sa.Column("pre_volume", sa.Double(), nullable=True),
        sa.Column("post_last", sa.Double(), nullable=True),
        sa.Column("post_volume", sa.Double(), nullable=True),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "minute_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("minutes", mysql.MEDIUMBLOB(), nullable=False),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "option_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("call_volume", sa.BigInteger(), nullable=False),
        sa.Column("put_volume", sa.BigInteger(), nullable=False),
        sa.Column("call_open_interest", sa.BigInteger(), nullable=False),
        sa.Column("put_open_interest", sa.BigInteger(), nullable=False),
        sa.Column("atm_width", sa.Float(), nullable=True),
        sa.Column("expirations", sa.Integer(), nullable=False),
        sa.Column("weekly_expirations", sa.Integer(), nullable=False),
        sa.Column("strikes", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "volatility_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("iv7", sa.Float(), nullable=True),
        sa.Column("iv14", sa.Float(), nullable=True),
        sa.Column("iv30", sa.Float(), nullable=True),
        sa.Column("iv60", sa.Float(), nullable=True),
        sa.Column("iv90", sa.Float(), nullable=True),
        sa.Column("iv180", sa.Float(), nullable=True),
        sa.Column("iv365", sa.Float(), nullable=True),
        sa.Column("iv_nearest", sa.Float(), nullable=True),
        sa.Column("iv_week", sa.Float(), nullable=True),
        sa.Column("iv_month", sa.Float(), nullable=True),
        sa.Column("iv30_ex_earnings", sa.Float(), nullable=True),
        sa.Column("implied_earnings_move", sa.Float(), nullable=True),
        sa.Column("put_25d", sa.Float(), nullable=True),
        sa.Column("call_25d", sa.Float(), nullable=True),
        sa.Column("fit_quality", sa.Float(), nullable=True),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "snapshot_price",
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("price", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(
            ["taken_at"],
            ["chain_snapshot.taken_at"],
        ),
        sa.PrimaryKeyConstraint("taken_at", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "position",
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("call_exposure", sa.Float(), nullable=True),
        sa.Column("put_exposure", sa.Float(), nullable=True),
        sa.Column("flip", sa.Float(), nullable=True),
        sa.Column("near_exposure", sa.Float(), nullable=True),
        sa.Column("week_exposure", sa.Float(), nullable=True),
        sa.Column("month_exposure", sa.Float(), nullable=True),
        sa.Column("peak_exposure_strike", sa.Float(), nullable=True),
        sa.Column("peak_interest_strike", sa.Float(), nullable=True),
        sa.Column("top_strikes", sa.Float(), nullable=True),
        sa.Column("interest_above", sa.Float(), nullable=True),
        sa.Column("opened", sa.Float(), nullable=True),
        sa.Column("opened_above", sa.Float(), nullable=True),
        sa.Column("opened_below", sa.Float(), nullable=True),
        sa.Column("largest_build", sa.Float(), nullable=True),
        sa.Column("largest_build_base", sa.Float(), nullable=True),
        sa.Column("left_out", sa.Float(), nullable=True),
        sa.PrimaryKeyConstraint("taken_at", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "name_chain",
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("contracts", sa.Integer(), nullable=False),
        sa.Column("quotes", mysql.MEDIUMBLOB(), nullable=False),
        sa.PrimaryKeyConstraint("taken_at", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "expiry_volatility",
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("expiration", sa.Date(), nullable=False),
        sa.Column("years", sa.Double(), nullable=False),
        sa.Column("forward", sa.Double(), nullable=True),
        sa.Column("forward_from_parity", sa.Boolean(), nullable=False),
        sa.Column("vol", sa.Double(), nullable=True),
        sa.Column("strikes", sa.Integer(), nullable=False),
        sa.Column("straddle", sa.Double(), nullable=True),
        sa.Column("straddle_strike", sa.Double(), nullable=True),
        sa.Column("carry", sa.Double(), nullable=True),
        sa.Column("vol_ex_earnings", sa.Double(), nullable=True),
        sa.Column("put_25d", sa.Double(), nullable=True),
        sa.Column("call_25d", sa.Double(), nullable=True),
        sa.Column("quality", sa.Double(), nullable=True),
        sa.Column("flaw", sa.String(length=60), nullable=False),
        sa.Column("lowest_strike", sa.Double(), nullable=True),
        sa.Column("highest_strike", sa.Double(), nullable=True),
        sa.Column("svi_a", sa.Double(), nullable=True),
        sa.Column("svi_b", sa.Double(), nullable=True),
        sa.Column("svi_rho", sa.Double(), nullable=True),
        sa.Column("svi_m", sa.Double(), nullable=True),
        sa.Column("svi_sigma", sa.Double(), nullable=True),
        sa.PrimaryKeyConstraint("taken_at", "name_id", "expiration"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "surface_day",
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("surface", sa.VARBINARY(length=8000), nullable=False),
        sa.PrimaryKeyConstraint("session", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
