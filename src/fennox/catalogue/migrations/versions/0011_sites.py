"""sites whose machines are reached through a worker there"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0011'
down_revision = '0010'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'sites',
        sa.Column('name', sa.String(), nullable=False),
        sa.Column('token_hash', sa.String(), nullable=False),
        sa.Column('admitted', sa.DateTime(timezone=True), nullable=False),
        sa.Column('by', sa.String(), nullable=False),
        sa.Column('seen', sa.DateTime(timezone=True), nullable=True),
        sa.Column('connected', sa.Boolean(), nullable=True),
        sa.Column('machine', sa.String(), nullable=True),
        sa.Column('version', sa.String(), nullable=True),
        sa.Column('key', sa.String(), nullable=True),
        sa.Column('skew', sa.Float(), nullable=True),
        sa.PrimaryKeyConstraint('name'),
        sa.UniqueConstraint('token_hash'),
    )
    op.add_column('workers', sa.Column('for_sites', sa.Boolean(), nullable=False, server_default='false'))
    op.create_index('going_on', 'runs', ['routine_id'], postgresql_where=sa.text("state = 'running'"))
