"""rights, scopes, sessions, second factors, approvals, and a chained audit"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0025'
down_revision = '0024'
branch_labels = None
depends_on = None

_MOMENT = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.drop_constraint('known_role', 'users')
    op.create_check_constraint('known_role', 'users', "role in ('reader', 'auditor', 'operator', 'administrator')")
    op.add_column('users', sa.Column('rights', JSONB()))
    op.add_column('users', sa.Column('scope', JSONB()))
    op.add_column('users', sa.Column('must_change', sa.Boolean(), nullable=False, server_default='false'))
    op.add_column('users', sa.Column('issuer', sa.String(), nullable=False, server_default=''))
    op.add_column('users', sa.Column('subject', sa.String(), nullable=False, server_default=''))
    op.create_index(
        'one_user_for_a_subject', 'users', ['issuer', 'subject'], unique=True, postgresql_where=sa.text("issuer <> ''")
    )
    op.add_column('users', sa.Column('sealed_totp', sa.LargeBinary()))
    op.add_column('users', sa.Column('totp_since', _MOMENT))
    op.add_column('users', sa.Column('totp_used', sa.BigInteger(), nullable=False, server_default='0'))
    op.create_table(
        'recovery_codes',
        sa.Column('user_id', sa.String(), sa.ForeignKey('users.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('hash', sa.String(), primary_key=True),
    )
    op.create_table(
        'passkeys',
        sa.Column('id', sa.String(), primary_key=True),
        sa.Column('user_id', sa.String(), sa.ForeignKey('users.id', ondelete='CASCADE'), nullable=False, index=True),
        sa.Column('name', sa.String(), nullable=False),
        sa.Column('public_key', sa.LargeBinary(), nullable=False),
        sa.Column('sign_count', sa.BigInteger(), nullable=False),
        sa.Column('created', _MOMENT, nullable=False),
        sa.Column('used', _MOMENT),
    )
    op.create_table(
        'challenges',
        sa.Column('id', sa.String(), primary_key=True),
        sa.Column('purpose', sa.String(), nullable=False),
        sa.Column('data', JSONB(), nullable=False),
        sa.Column('until', _MOMENT, nullable=False),
    )
    op.add_column('tokens', sa.Column('id', sa.String()))
    op.execute("update tokens set id = left(hash, 12)")
    op.alter_column('tokens', 'id', nullable=False)
    op.create_unique_constraint('tokens_id_key', 'tokens', ['id'])
    op.create_index('ix_tokens_user_id', 'tokens', ['user_id'])
    for column in (
        sa.Column('name', sa.String(), nullable=False, server_default=''),
        sa.Column('role', sa.String()),
        sa.Column('rights', JSONB()),
        sa.Column('scope', JSONB()),
        sa.Column('used', _MOMENT),
        sa.Column('address', sa.String(), nullable=False, server_default=''),
        sa.Column('program', sa.String(), nullable=False, server_default=''),
        sa.Column('proved', _MOMENT),
    ):
        op.add_column('tokens', column)
    op.create_check_constraint(
        'known_purpose', 'tokens', "purpose in ('console', 'client', 'automation', 'metrics')"
    )
    op.create_table(
        'approvals',
        sa.Column('id', sa.String(), primary_key=True),
        sa.Column('user_id', sa.String(), sa.ForeignKey('users.id', ondelete='CASCADE'), nullable=False),
        sa.Column('by', sa.String(), nullable=False),
        sa.Column('operation', sa.String(), nullable=False),
        sa.Column('act', sa.String(), nullable=False),
        sa.Column('about', sa.String(), nullable=False),
        sa.Column('shown', JSONB(), nullable=False),
        sa.Column('sheet_id', sa.String()),
        sa.Column('system_id', sa.String()),
        sa.Column('digest', sa.String(), nullable=False),
        sa.Column('at', _MOMENT, nullable=False),
        sa.Column('until', _MOMENT, nullable=False),
        sa.Column('state', sa.String(), nullable=False),
        sa.Column('decided_by', sa.String(), nullable=False, server_default=''),
        sa.Column('decided', _MOMENT),
        sa.Column('because', sa.String(), nullable=False, server_default=''),
        sa.CheckConstraint("state in ('asked', 'granted', 'refused', 'used')", name='known_state'),
    )
    op.create_index('approvals_by_request', 'approvals', ['user_id', 'digest'])
    op.add_column('service_state', sa.Column('approvals', JSONB(), nullable=False, server_default='[]'))
    op.add_column('audit', sa.Column('address', sa.String(), nullable=False, server_default=''))
    op.add_column('audit', sa.Column('place', sa.BigInteger(), unique=True))
    op.add_column('audit', sa.Column('digest', sa.String(), nullable=False, server_default=''))
    op.create_index('not_chained_yet', 'audit', ['id'], postgresql_where=sa.text('place is null'))
    op.execute(
        "create trigger audit_told after insert on audit for each statement execute function tell_changed('audit')"
    )
    op.add_column('alert_routes', sa.Column('sealed_address', sa.LargeBinary()))
    op.add_column('alert_routes', sa.Column('audit', sa.Boolean(), nullable=False, server_default='false'))


def downgrade() -> None:
    for column in ('audit', 'sealed_address'):
        op.drop_column('alert_routes', column)
    op.execute('drop trigger audit_told on audit')
    op.drop_index('not_chained_yet', 'audit')
    for column in ('digest', 'place', 'address'):
        op.drop_column('audit', column)
    op.drop_column('service_state', 'approvals')
    op.drop_table('approvals')
    op.drop_constraint('known_purpose', 'tokens')
    for column in ('proved', 'program', 'address', 'used', 'scope', 'rights', 'role', 'name', 'id'):
        op.drop_column('tokens', column)
    op.drop_index('ix_tokens_user_id', 'tokens')
    for table in ('challenges', 'passkeys', 'recovery_codes'):
        op.drop_table(table)
    op.drop_index('one_user_for_a_subject', 'users')
    for column in ('totp_since', 'totp_used', 'sealed_totp', 'subject', 'issuer', 'must_change', 'scope', 'rights'):
        op.drop_column('users', column)
    op.drop_constraint('known_role', 'users')
    op.create_check_constraint('known_role', 'users', "role in ('reader', 'operator', 'administrator')")
