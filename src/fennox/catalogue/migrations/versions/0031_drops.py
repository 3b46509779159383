"""where systems push to, and by which accounts"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0031'
down_revision = '0030'
branch_labels = None
depends_on = None

_TOLD = ("drop_settings", "drop_accounts")


def upgrade() -> None:
    op.create_table(
        'drop_settings',
        sa.Column('one', sa.BigInteger(), nullable=False),
        sa.Column('sftp', sa.String(), nullable=False),
        sa.Column('ftps', sa.String(), nullable=False),
        sa.Column('ftp', sa.String(), nullable=False),
        sa.Column('public', sa.String(), nullable=False),
        sa.Column('passive', sa.String(), nullable=False),
        sa.Column('sealed_host_key', sa.LargeBinary(), nullable=False),
        sa.Column('host_key', sa.String(), nullable=False),
        sa.Column('certificate', sa.String(), nullable=False),
        sa.Column('sealed_certificate_key', sa.LargeBinary(), nullable=False),
        sa.Column('version', sa.BigInteger(), nullable=False),
        sa.Column('made', sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint('one', name=op.f('pk_drop_settings')),
        sa.CheckConstraint('one = 1', name=op.f('ck_drop_settings_only_one_drop')),
    )
    op.create_table(
        'drop_accounts',
        sa.Column('system_id', sa.String(), nullable=False),
        sa.Column('account', sa.String(), nullable=False),
        sa.Column('secret', sa.String(), nullable=False),
        sa.Column('keys', postgresql.JSONB(), nullable=False),
        sa.Column('made', sa.DateTime(timezone=True), nullable=False),
        sa.Column('by', sa.String(), nullable=False),
        sa.PrimaryKeyConstraint('system_id', name=op.f('pk_drop_accounts')),
        sa.UniqueConstraint('account', name=op.f('uq_drop_accounts_account')),
        sa.ForeignKeyConstraint(
            ['system_id'],
            ['systems.id'],
            name=op.f('fk_drop_accounts_system_id_systems'),
            ondelete='CASCADE',
        ),
    )
    for table in _TOLD:
        op.execute(
            f"create trigger {table}_told after insert or update or delete on {table} for each"
            " statement execute function tell_changed('drops')"
        )


def downgrade() -> None:
    for table in _TOLD:
        op.drop_table(table)
