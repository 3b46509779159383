"""how fast a system may push"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0034'
down_revision = '0033'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        "drop_settings",
        sa.Column("rate", sa.BigInteger(), nullable=False, server_default="100000000"),
    )
    op.alter_column("drop_settings", "rate", server_default=None)


def downgrade() -> None:
    op.drop_column("drop_settings", "rate")
