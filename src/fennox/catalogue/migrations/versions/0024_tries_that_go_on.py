"""sign-in attempts count before their password is checked"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0024'
down_revision = '0023'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('sign_in_failures', sa.Column('attempt', sa.String(), nullable=False, server_default=''))


def downgrade() -> None:
    op.drop_column('sign_in_failures', 'attempt')
