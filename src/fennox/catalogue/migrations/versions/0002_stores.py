"""stores over networks, copies, damage, trials"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0002'
down_revision = '0001'
branch_labels = None
depends_on = None


def upgrade() -> None:
    moment = sa.DateTime(timezone=True)
    op.add_column('stores', sa.Column('login_id', sa.String(), sa.ForeignKey('logins.id')))
    op.add_column('stores', sa.Column('key', sa.String()))
    op.add_column('stores', sa.Column('site', sa.String(), nullable=False, server_default=''))
    op.add_column('stores', sa.Column('scrubbed', moment))
    op.add_column('stores', sa.Column('swept', moment))
    op.add_column('stores', sa.Column('stopped_because', sa.String(), nullable=False, server_default=''))
    op.add_column('copies', sa.Column('digest', sa.String(), nullable=False, server_default=''))
    op.add_column('copies', sa.Column('verified', moment))
    op.add_column('copies', sa.Column('damaged', sa.String(), nullable=False, server_default=''))
    op.add_column('routines', sa.Column('copy_to', postgresql.JSONB(), nullable=False, server_default='[]'))
    op.execute("update copies set digest = backups.digest from backups where backups.id = copies.backup_id")
    op.create_table(
        'store_damage',
        sa.Column('id', sa.BigInteger(), sa.Identity(always=False), primary_key=True),
        sa.Column('store_id', sa.String(), sa.ForeignKey('stores.id', ondelete='CASCADE'), nullable=False, index=True),
        sa.Column('object', sa.String(), nullable=False),
        sa.Column('what', sa.String(), nullable=False),
        sa.Column('backups', postgresql.JSONB(), nullable=False),
        sa.Column('found', moment, nullable=False),
        sa.Column('healed', moment),
        sa.Column('how', sa.String(), nullable=False),
    )
    op.create_table(
        'store_space',
        sa.Column('store_id', sa.String(), sa.ForeignKey('stores.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('at', moment, primary_key=True),
        sa.Column('objects', sa.BigInteger(), nullable=False),
        sa.Column('used', sa.BigInteger(), nullable=False),
        sa.Column('free', sa.BigInteger()),
    )
    op.create_table(
        'trials',
        sa.Column('key_set', sa.String(), primary_key=True),
        sa.Column('slot', sa.String(), primary_key=True),
        sa.Column('at', moment, nullable=False),
        sa.Column('by', sa.String(), nullable=False),
    )
