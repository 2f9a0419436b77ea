"""what is known and left out: the day a report's date was known, the strikes a fit rests on, contracts out of an exposure"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    # A market of the version that fills these is made afresh, so what stands in old rows is never read.
    op.add_column("earnings_report", sa.Column("known_on", sa.Date(), nullable=False, server_default="1970-01-01"))
    op.alter_column(
        "earnings_report", "known_on", existing_type=sa.Date(), existing_nullable=False, server_default=None
    )
    for strike in ("lowest_strike", "highest_strike"):
        op.add_column("expiry_volatility", sa.Column(strike, sa.Double(), nullable=True))
    op.add_column("position", sa.Column("left_out", sa.Double(), nullable=True))
