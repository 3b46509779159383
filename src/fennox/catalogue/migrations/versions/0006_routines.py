"""routines in full, what is wrong as standing concerns, and who is told"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0006'
down_revision = '0005'
branch_labels = None
depends_on = None

_EMPTY = sa.text("''")
_ZERO = sa.text('0')


def upgrade() -> None:
    op.add_column('routines', sa.Column('spread', sa.BigInteger(), nullable=False, server_default=_ZERO))
    op.add_column('routines', sa.Column('quiet', sa.String(), nullable=False, server_default=_EMPTY))
    op.add_column('systems', sa.Column('suspended_because', sa.String(), nullable=False, server_default=_EMPTY))
    op.add_column('systems', sa.Column('retired', sa.DateTime(timezone=True), nullable=True))
    op.add_column('backups', sa.Column('doubtful_because', sa.String(), nullable=False, server_default=_EMPTY))
    op.add_column('runs', sa.Column('odd', sa.String(), nullable=False, server_default=_EMPTY))
    op.add_column('workers', sa.Column('skew', sa.Float(), nullable=False, server_default=_ZERO))
    op.add_column('workers', sa.Column('version', sa.String(), nullable=False, server_default=_EMPTY))
    op.add_column('workers', sa.Column('draining', sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column('workers', sa.Column('stopped', sa.DateTime(timezone=True), nullable=True))
    op.create_table(
        'concerns',
        sa.Column('key', sa.String(), primary_key=True),
        sa.Column('severity', sa.String(), nullable=False),
        sa.Column('noun', sa.String(), nullable=False),
        sa.Column('about', sa.String(), nullable=False),
        sa.Column('cause', sa.String(), nullable=False),
        sa.Column('text', sa.String(), nullable=False),
        sa.Column('means', sa.String(), nullable=False),
        sa.Column('remedy', sa.String(), nullable=False),
        sa.Column('since', sa.DateTime(timezone=True), nullable=False),
        sa.Column('ended', sa.DateTime(timezone=True), nullable=True),
        sa.Column('muted_until', sa.DateTime(timezone=True), nullable=True),
        sa.Column('muted_because', sa.String(), nullable=False, server_default=_EMPTY),
        sa.Column('muted_by', sa.String(), nullable=False, server_default=_EMPTY),
    )
    op.create_table(
        'alert_routes',
        sa.Column('id', sa.String(), primary_key=True),
        sa.Column('name', sa.String(), unique=True, nullable=False),
        sa.Column('channel', sa.String(), nullable=False),
        sa.Column('address', sa.String(), nullable=False),
        sa.Column('settings', postgresql.JSONB(), nullable=False),
        sa.Column('sealed_secret', sa.LargeBinary(), nullable=True),
        sa.Column('severity', sa.String(), nullable=False),
        sa.Column('systems', sa.String(), nullable=False),
        sa.Column('digest', sa.String(), nullable=False, server_default=_EMPTY),
        sa.Column('mode', sa.String(), nullable=False),
        sa.Column('created', sa.DateTime(timezone=True), nullable=False),
        sa.Column('told_until', sa.DateTime(timezone=True), nullable=False),
    )
    op.create_table(
        'alerts',
        sa.Column('id', sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column('route_id', sa.String(), sa.ForeignKey('alert_routes.id', ondelete='CASCADE'), nullable=False),
        sa.Column('at', sa.DateTime(timezone=True), nullable=False),
        sa.Column('event', sa.String(), nullable=False),
        sa.Column('body', postgresql.JSONB(), nullable=False),
        sa.Column('not_before', sa.DateTime(timezone=True), nullable=False),
        sa.Column('tries', sa.BigInteger(), nullable=False, server_default=_ZERO),
        sa.Column('sent', sa.DateTime(timezone=True), nullable=True),
        sa.Column('error', sa.String(), nullable=False, server_default=_EMPTY),
    )
    op.create_index('alerts_to_send', 'alerts', ['not_before'], postgresql_where=sa.text('sent is null'))
