"""kinds that an administrator added"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0004'
down_revision = '0003'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'kinds',
        sa.Column('name', sa.String(), primary_key=True),
        sa.Column('version', sa.BigInteger(), primary_key=True),
        sa.Column('text', sa.String(), nullable=False),
        sa.Column('added', sa.DateTime(timezone=True), nullable=False),
        sa.Column('by', sa.String(), nullable=False),
    )
