"""the service as a system of its own, secrets sealed to key sets, generations of keys, a login that removes, notes that wait"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0003'
down_revision = '0002'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.alter_column('systems', 'login_id', nullable=True)
    op.add_column('stores', sa.Column('sweep_login_id', sa.String(), sa.ForeignKey('logins.id')))
    budget = sa.Column('scrub_budget', sa.BigInteger(), nullable=False, server_default='100000000000')
    op.add_column('stores', budget)
    op.add_column('stores', sa.Column('scrub_share', sa.BigInteger(), nullable=False, server_default='0'))
    op.add_column('key_sets', sa.Column('previous_opening_key', sa.LargeBinary()))
    op.add_column('key_sets', sa.Column('slots', postgresql.JSONB()))
    op.add_column('key_sets', sa.Column('left_to_expire', sa.Boolean(), nullable=False, server_default='false'))
    op.create_table(
        'pending_notes',
        sa.Column('id', sa.BigInteger(), sa.Identity(always=False), primary_key=True),
        sa.Column('store_id', sa.String(), sa.ForeignKey('stores.id', ondelete='CASCADE'), nullable=False),
        sa.Column('backup_id', sa.String(), sa.ForeignKey('backups.id', ondelete='CASCADE'), nullable=False, index=True),
        sa.Column('note', postgresql.JSONB(), nullable=False),
        sa.Column('at', sa.DateTime(timezone=True), nullable=False),
    )
    op.create_table(
        'sealed_secrets',
        sa.Column('what', sa.String(), primary_key=True),
        sa.Column('key_set', sa.String(), primary_key=True),
        sa.Column('generation', sa.BigInteger(), primary_key=True),
        sa.Column('made', sa.DateTime(timezone=True), nullable=False),
        sa.Column('sealed', sa.LargeBinary(), nullable=False),
    )
