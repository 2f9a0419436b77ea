"""surfaces: a fitted slice an expiration, daily history of what is read from them; the exchange's sessions"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"

_DAY = ("iv_week", "iv_month", "iv30_ex_earnings", "implied_earnings_move", "put_25d", "call_25d", "fit_quality")
_EXPIRY = (
    "carry", "vol_ex_earnings", "put_25d", "call_25d", "quality", "svi_a", "svi_b", "svi_rho", "svi_m", "svi_sigma",
)  # fmt: skip


def upgrade() -> None:
    op.create_table(
        "exchange_session",
        sa.Column("session", sa.Date(), nullable=False),
        sa.PrimaryKeyConstraint("session"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    for table, columns in (("volatility_day", _DAY), ("expiry_volatility", _EXPIRY)):
        for column in columns:
            op.add_column(table, sa.Column(column, sa.Double(), nullable=True))
    op.add_column("expiry_volatility", sa.Column("flaw", sa.String(length=60), nullable=False, server_default=""))
