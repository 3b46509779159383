"""what each store held at the last look"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0026'
down_revision = '0025'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'store_anchors',
        sa.Column('store_id', sa.String(), sa.ForeignKey('stores.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('at', sa.DateTime(timezone=True), nullable=False),
        sa.Column('told', JSONB(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table('store_anchors')
