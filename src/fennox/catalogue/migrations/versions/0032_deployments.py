"""new machines for systems, made on hosts"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0032'
down_revision = '0031'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'deployments',
        sa.Column('id', sa.String(), nullable=False),
        sa.Column('system_id', sa.String(), nullable=False),
        sa.Column('host_id', sa.String(), nullable=False),
        sa.Column('backup_id', sa.String(), nullable=False),
        sa.Column('run_id', sa.String(), nullable=False),
        sa.Column('state', sa.String(), nullable=False),
        sa.Column('data', postgresql.JSONB(), nullable=False),
        sa.Column('created', sa.DateTime(timezone=True), nullable=False),
        sa.Column('by', sa.String(), nullable=False),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_deployments')),
        sa.ForeignKeyConstraint(
            ['system_id'],
            ['systems.id'],
            name=op.f('fk_deployments_system_id_systems'),
            ondelete='CASCADE',
        ),
        sa.ForeignKeyConstraint(
            ['host_id'],
            ['systems.id'],
            name=op.f('fk_deployments_host_id_systems'),
            ondelete='CASCADE',
        ),
    )
    op.create_index('ix_deployments_system_id', 'deployments', ['system_id'])
    op.create_index('ix_deployments_host_id', 'deployments', ['host_id'])


def downgrade() -> None:
    op.drop_table('deployments')
