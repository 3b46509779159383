"""whether clocks were apart since the last tending, and not only one seemed to have jumped"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0020'
down_revision = '0019'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("service_state", sa.Column("apart", sa.Boolean(), nullable=False, server_default="false"))


def downgrade() -> None:
    op.drop_column("service_state", "apart")
