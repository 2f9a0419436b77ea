"""a look at the chains of some names alone: when each name's was looked at"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.add_column("snapshot_price", sa.Column("looked_at", sa.DateTime(), nullable=True))
