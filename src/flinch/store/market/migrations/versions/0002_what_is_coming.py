"""what is still being made"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.add_column("market_state", sa.Column("coming", sa.String(length=200), nullable=True))
    op.add_column(
        "market_state", sa.Column("coming_percent", sa.SmallInteger(), nullable=False, server_default=sa.text("0"))
    )
    op.alter_column("market_state", "coming_percent", existing_type=sa.SmallInteger(), server_default=None)
