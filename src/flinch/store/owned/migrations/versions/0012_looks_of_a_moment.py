"""looks of a moment: a look at a screen knows the moment of the market"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.add_column("screen_look", sa.Column("moment", sa.DateTime(), nullable=True))
