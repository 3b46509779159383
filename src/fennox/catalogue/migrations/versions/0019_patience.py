"""how long each system is waited for"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0019'
down_revision = '0018'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("systems", sa.Column("patience", sa.BigInteger(), nullable=False, server_default="15"))


def downgrade() -> None:
    op.drop_column("systems", "patience")
