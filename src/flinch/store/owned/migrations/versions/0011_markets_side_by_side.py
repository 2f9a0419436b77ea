"""markets side by side: tray, lines, plans and baskets belong to a market, and one is chosen"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    for table in ("tray_entry", "tray_step", "basket", "own_line", "plan", "screen_look"):
        # What is there was made on the only market that there was.
        op.add_column(table, sa.Column("market", sa.String(length=31), nullable=False, server_default="demo"))
        op.alter_column(
            table, "market", existing_type=sa.String(length=31), existing_nullable=False, server_default=None
        )
    op.execute("ALTER TABLE tray_entry DROP PRIMARY KEY, ADD PRIMARY KEY (owner_id, market, symbol)")
    op.execute("ALTER TABLE screen_look DROP PRIMARY KEY, ADD PRIMARY KEY (screen_id, market, session)")
    op.create_table(
        "chosen_market",
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("market", sa.String(length=31), nullable=False),
        sa.ForeignKeyConstraint(["owner_id"], ["owner.id"]),
        sa.PrimaryKeyConstraint("owner_id"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
