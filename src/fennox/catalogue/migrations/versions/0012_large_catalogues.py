"""indexes for long histories, and what was counted of the estate"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0012'
down_revision = '0011'
branch_labels = None
depends_on = None

_NEWEST = ['system_id', sa.text('time desc'), sa.text('sequence desc')]


def upgrade() -> None:
    op.create_table(
        'estate_counts',
        sa.Column('one', sa.BigInteger(), nullable=False),
        sa.Column('systems', sa.BigInteger(), nullable=False),
        sa.Column('protected', sa.BigInteger(), nullable=False),
        sa.Column('backups', sa.BigInteger(), nullable=False),
        sa.Column('stores', postgresql.JSONB(), nullable=False),
        sa.CheckConstraint('one = 1', name='only_one_count'),
        sa.PrimaryKeyConstraint('one'),
    )
    whole = "purpose = 'backup' and doubtful is false and partial"
    op.create_index('newest_good', 'backups', _NEWEST, postgresql_where=sa.text(f'{whole} is false'))
    op.create_index('newest_partial', 'backups', _NEWEST, postgresql_where=sa.text(f'{whole} is true'))
    op.create_index('doubted', 'backups', ['system_id'], postgresql_where=sa.text('doubtful and expired is false'))
    op.create_index('by_name', 'backups', ['name'], postgresql_where=sa.text("name <> ''"))
    op.create_index('active', 'runs', ['state'],
                    postgresql_where=sa.text("state in ('queued', 'running', 'waiting')"))
    op.create_index('newest_of_a_system', 'runs', ['system_id', sa.text('created desc')])
    op.create_index('of_a_store', 'runs', ['store_id', 'kind', 'created'],
                    postgresql_where=sa.text('system_id is null'))
    op.create_index('newest_first', 'runs', [sa.text('created desc'), sa.text('id desc')])
