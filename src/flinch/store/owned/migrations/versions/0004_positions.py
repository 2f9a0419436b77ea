"""positions: chains at several moments, what a contract delivers, exposure and open interest summarised"""

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"

_POSITION = (
    "call_exposure", "put_exposure", "flip", "near_exposure", "week_exposure", "month_exposure", "peak_exposure_strike",
    "peak_interest_strike", "top_strikes", "interest_above", "opened", "opened_above", "opened_below", "largest_build",
    "largest_build_base",
)  # fmt: skip
_EXPIRY = (
    "forward", "vol", "straddle", "straddle_strike", "carry", "vol_ex_earnings", "put_25d", "call_25d", "quality", "svi_a",
    "svi_b", "svi_rho", "svi_m", "svi_sigma",
)  # fmt: skip
_TABLE: dict[str, Any] = {"mysql_charset": "utf8mb4", "mysql_collate": "utf8mb4_bin", "mysql_engine": "InnoDB"}


def _numbers(names: tuple[str, ...]) -> list[sa.Column[float]]:
    return [sa.Column(name, sa.Double(), nullable=True) for name in names]


def upgrade() -> None:
    op.create_table(
        "chain_snapshot",
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.PrimaryKeyConstraint("taken_at"),
        **_TABLE,
    )
    op.create_table(
        "snapshot_price",
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("price", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(["taken_at"], ["chain_snapshot.taken_at"]),
        sa.ForeignKeyConstraint(["name_id"], ["name.id"]),
        sa.PrimaryKeyConstraint("taken_at", "name_id"),
        **_TABLE,
    )
    op.create_table(
        "contract_series",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("series", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("multiplier", sa.Double(), nullable=False),
        sa.Column("shares", sa.Double(), nullable=False),
        sa.Column("cash", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(["name_id"], ["name.id"]),
        sa.PrimaryKeyConstraint("name_id", "series"),
        **_TABLE,
    )
    op.create_table(
        "position",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        *_numbers(_POSITION),
        sa.ForeignKeyConstraint(["name_id"], ["name.id"]),
        sa.PrimaryKeyConstraint("name_id", "taken_at"),
        **_TABLE,
    )
    # Chains and what is read from them get another key; a market of the version that fills it is made afresh anyway.
    op.drop_table("option_quote")
    op.create_table(
        "option_quote",
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("name_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("expiration", sa.Date(), nullable=False),
        sa.Column("strike", sa.Double(), nullable=False),
        sa.Column("is_call", sa.Boolean(), nullable=False),
        sa.Column("series", sa.SmallInteger(), autoincrement=False, nullable=False),
        *_numbers(("bid", "ask")),
        sa.Column("volume", sa.Integer(), nullable=False),
        sa.Column("open_interest", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("taken_at", "name_id", "expiration", "strike", "is_call", "series"),
        **_TABLE,
    )
    op.drop_table("expiry_volatility")
    op.create_table(
        "expiry_volatility",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("taken_at", sa.DateTime(), nullable=False),
        sa.Column("expiration", sa.Date(), nullable=False),
        sa.Column("years", sa.Double(), nullable=False),
        sa.Column("forward_from_parity", sa.Boolean(), nullable=False),
        sa.Column("strikes", sa.Integer(), nullable=False),
        sa.Column("flaw", sa.String(length=60), nullable=False),
        *_numbers(_EXPIRY),
        sa.ForeignKeyConstraint(["name_id"], ["name.id"]),
        sa.PrimaryKeyConstraint("name_id", "taken_at", "expiration"),
        **_TABLE,
    )
