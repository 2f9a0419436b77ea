"""markets have databases of their own: what stood here of one goes, and is made afresh there"""

from alembic import op

revision = "0007"
down_revision = "0006"

_MARKET = (
    "snapshot_price", "option_quote", "expiry_volatility", "position", "contract_series", "chain_snapshot", "short_interest",
    "dividend", "estimate", "fundamental", "fund_member", "earnings_report", "volatility_day", "option_day", "minute_bar",
    "extended_day", "daily_bar", "exchange_session", "name", "market_state",
)  # fmt: skip


def upgrade() -> None:
    for table in _MARKET:
        op.drop_table(table)
