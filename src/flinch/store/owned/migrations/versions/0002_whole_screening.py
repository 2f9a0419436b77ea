"""facts, extended hours, minute bars, option days; saved screens, own metrics and baskets"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.create_table(
        "basket",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("symbols", sa.JSON(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.Column("deleted_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(
            ["owner_id"],
            ["owner.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index(op.f("ix_basket_owner_id"), "basket", ["owner_id"], unique=False)
    op.create_table(
        "dividend",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("ex_date", sa.Date(), nullable=False),
        sa.Column("declared_on", sa.Date(), nullable=False),
        sa.Column("amount", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "ex_date"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "estimate",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("known_on", sa.Date(), nullable=False),
        sa.Column("eps_next_year", sa.Double(), nullable=True),
        sa.Column("fair_value", sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "known_on"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "extended_day",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("pre_high", sa.Double(), nullable=True),
        sa.Column("pre_low", sa.Double(), nullable=True),
        sa.Column("pre_last", sa.Double(), nullable=True),
        sa.Column("pre_volume", sa.Double(), nullable=True),
        sa.Column("post_last", sa.Double(), nullable=True),
        sa.Column("post_volume", sa.Double(), nullable=True),
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
        "fund_member",
        sa.Column("fund_id", sa.Integer(), nullable=False),
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("weight", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(
            ["fund_id"],
            ["name.id"],
        ),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("fund_id", "name_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "fundamental",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("source", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("period_end", sa.Date(), nullable=False),
        sa.Column("known_on", sa.Date(), nullable=False),
        sa.Column("eps_ttm", sa.Double(), nullable=True),
        sa.Column("sales_ttm", sa.Double(), nullable=True),
        sa.Column("book", sa.Double(), nullable=True),
        sa.Column("fcf_ttm", sa.Double(), nullable=True),
        sa.Column("debt_to_equity", sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "source", "period_end"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "minute_bar",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("open", sa.Double(), nullable=False),
        sa.Column("high", sa.Double(), nullable=False),
        sa.Column("low", sa.Double(), nullable=False),
        sa.Column("close", sa.Double(), nullable=False),
        sa.Column("volume", sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "at"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "option_day",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("call_volume", sa.BigInteger(), nullable=False),
        sa.Column("put_volume", sa.BigInteger(), nullable=False),
        sa.Column("call_open_interest", sa.BigInteger(), nullable=False),
        sa.Column("put_open_interest", sa.BigInteger(), nullable=False),
        sa.Column("atm_width", sa.Double(), nullable=True),
        sa.Column("expirations", sa.Integer(), nullable=False),
        sa.Column("weekly_expirations", sa.Integer(), nullable=False),
        sa.Column("strikes", sa.Integer(), nullable=False),
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
        "own_metric",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("key", sa.String(length=40), nullable=False),
        sa.Column("label", sa.String(length=80), nullable=False),
        sa.Column("unit", sa.String(length=20), nullable=False),
        sa.Column("expression", sa.String(length=1000), nullable=False),
        sa.Column("decimals", sa.SmallInteger(), nullable=False),
        sa.Column("deleted_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(
            ["owner_id"],
            ["owner.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index(op.f("ix_own_metric_owner_id"), "own_metric", ["owner_id"], unique=False)
    op.create_table(
        "saved_screen",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("description", sa.String(length=2000), nullable=False),
        sa.Column("tags", sa.JSON(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.Column("deleted_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(
            ["owner_id"],
            ["owner.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index(op.f("ix_saved_screen_owner_id"), "saved_screen", ["owner_id"], unique=False)
    op.create_table(
        "short_interest",
        sa.Column("name_id", sa.Integer(), nullable=False),
        sa.Column("settled_on", sa.Date(), nullable=False),
        sa.Column("known_on", sa.Date(), nullable=False),
        sa.Column("shares", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(
            ["name_id"],
            ["name.id"],
        ),
        sa.PrimaryKeyConstraint("name_id", "settled_on"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_table(
        "screen_look",
        sa.Column("screen_id", sa.Integer(), nullable=False),
        sa.Column("session", sa.Date(), nullable=False),
        sa.Column("looked_at", sa.DateTime(), nullable=False),
        sa.Column("symbols", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["screen_id"], ["saved_screen.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("screen_id", "session"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.drop_table("option_activity")
    op.add_column("name", sa.Column("float_shares", sa.Double(), nullable=True))
    op.add_column("volatility_day", sa.Column("iv_nearest", sa.Double(), nullable=True))
