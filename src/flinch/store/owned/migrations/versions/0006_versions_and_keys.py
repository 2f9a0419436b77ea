"""versions and keys: what is kept counts its changes, and a change is known by the key it was sent under"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import MEDIUMTEXT

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    for table in ("saved_screen", "basket", "own_metric"):
        op.add_column(table, sa.Column("version", sa.Integer(), nullable=False, server_default="1"))
        op.alter_column(table, "version", existing_type=sa.Integer(), existing_nullable=False, server_default=None)
    op.create_table(
        "write_key",
        sa.Column("owner_id", sa.Integer(), nullable=False),
        sa.Column("key", sa.String(length=64), nullable=False),
        sa.Column("path", sa.String(length=200), nullable=False),
        sa.Column("answer", MEDIUMTEXT(), nullable=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(["owner_id"], ["owner.id"]),
        sa.PrimaryKeyConstraint("owner_id", "key"),
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
