"""how a system answered at its last take, so that the next one knows whether anything has changed"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0014'
down_revision = '0013'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('states', sa.Column('likeness', sa.String(), nullable=False, server_default=''))
    op.alter_column('states', 'likeness', server_default=None)
