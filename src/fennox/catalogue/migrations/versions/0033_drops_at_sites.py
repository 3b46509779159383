"""workers of sites that take pushes for the receiving end"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0033'
down_revision = '0032'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('sites', sa.Column('drop', sa.String(), nullable=True))


def downgrade() -> None:
    op.drop_column("sites", "drop")
