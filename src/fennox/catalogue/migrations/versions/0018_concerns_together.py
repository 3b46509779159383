"""one sentence for all concerns of one cause

The next look fills it in.
"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0018'
down_revision = '0017'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("concerns", sa.Column("together", sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("concerns", "together")
