"""clocks are evidence, and what goes is marked, seen twice and listed for a year

New columns keep their defaults in the database, so that a process of the version before can still end what it began.
The newest good backup of a system is the last one by number, whatever date it bears.
"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0016'
down_revision = '0015'
branch_labels = None
depends_on = None

_MOMENT = sa.DateTime(timezone=True)
_GOOD = "purpose = 'backup' and doubtful is false and partial is false"
_LAST = f"(select time from backups where system_id = systems.id and {_GOOD} order by sequence desc limit 1)"
_COMES = f"""
create or replace function newest_good_comes() returns trigger language plpgsql as $$
begin
    update systems set newest_good = {_LAST}
    where id in (select system_id from added where {_GOOD}) and newest_good is distinct from {_LAST};
    return null;
end $$
"""
_CHANGES = f"""
create or replace function newest_good_changes() returns trigger language plpgsql as $$
begin
    update systems set newest_good = {_LAST}
    where id in (
        select was.system_id from was join became using (id)
        where (was.doubtful, was.partial, was.purpose, was.time, was.sequence)
              is distinct from (became.doubtful, became.partial, became.purpose, became.time, became.sequence)
    );
    return null;
end $$
"""
_GOES = f"""
create or replace function newest_good_goes() returns trigger language plpgsql as $$
begin
    update systems set newest_good = {_LAST}
    where id in (select system_id from was) and newest_good is distinct from {_LAST};
    return null;
end $$
"""


def upgrade() -> None:
    op.alter_column('runs', 'not_before', existing_type=_MOMENT, nullable=True, server_default=None)
    op.execute("update runs set not_before = null where not_before <= queued_at")
    op.add_column('service_state', sa.Column('tended', _MOMENT))
    op.add_column('service_state', sa.Column('tended_run', sa.BigInteger(), nullable=False, server_default='0'))
    op.create_table(
        'clock_acceptances',
        sa.Column('name', sa.String(), primary_key=True),
        sa.Column('ahead', sa.Float()),
        sa.Column('until', _MOMENT),
        sa.Column('at', _MOMENT, nullable=False),
        sa.Column('by', sa.String(), nullable=False),
    )
    op.create_table(
        'removals',
        sa.Column('id', sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column('store_id', sa.String(), sa.ForeignKey('stores.id', ondelete='CASCADE'), nullable=False),
        sa.Column('system_id', sa.String(), nullable=False),
        sa.Column('system', sa.String(), nullable=False),
        sa.Column('backup_id', sa.String(), nullable=False),
        sa.Column('name', sa.String(), nullable=False),
        sa.Column('time', _MOMENT, nullable=False),
        sa.Column('sequence', sa.BigInteger(), nullable=False),
        sa.Column('size', sa.BigInteger(), nullable=False),
        sa.Column('why', sa.String(), nullable=False),
        sa.Column('at', _MOMENT, nullable=False),
        sa.Column('run_id', sa.String(), nullable=False),
    )
    op.create_index('ix_removals_store_id', 'removals', ['store_id'])
    op.create_index('ix_removals_system_id', 'removals', ['system_id'])
    op.create_index('removed_last', 'removals', [sa.text('at desc'), sa.text('id desc')])
    op.add_column('systems', sa.Column('disordered', sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column('stores', sa.Column('skew', sa.Float()))
    op.add_column('stores', sa.Column('free', sa.BigInteger()))
    op.add_column('stores', sa.Column('went_back', sa.String(), nullable=False, server_default=''))
    op.add_column('runs', sa.Column('number', sa.BigInteger(), sa.Identity(), nullable=False))
    op.add_column('runs', sa.Column('behind', sa.String()))
    op.add_column('runs', sa.Column('told', _MOMENT))
    op.drop_index('one_active_run_for_a_system', table_name='runs')
    op.create_index(
        'one_active_run_for_a_system', 'runs', ['system_id'], unique=True,
        postgresql_where=sa.text(
            "system_id is not null and behind is null and state in ('queued', 'running', 'waiting')"
        ),
    )
    op.create_index(
        'lined_up', 'runs', ['system_id', 'number'], postgresql_where=sa.text('behind is not null')
    )
    op.create_index(
        'decided_last', 'runs', ['routine_id', 'system_id', sa.text('number desc')],
        postgresql_where=sa.text('due is not null'),
    )
    op.add_column('backups', sa.Column('expired_at', _MOMENT))
    op.add_column('backups', sa.Column('expired_by', sa.String(), nullable=False, server_default=''))
    op.add_column('backups', sa.Column('misdated', sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column('backups', sa.Column('noted', _MOMENT))
    op.add_column('copies', sa.Column('let_go_at', _MOMENT))
    op.add_column('copies', sa.Column('removable_since', _MOMENT))
    op.add_column('concerns', sa.Column('code', sa.String(), nullable=False, server_default=''))
    op.drop_index('of_a_store', table_name='runs')
    op.create_index(
        'of_a_store', 'runs', ['store_id', 'kind', sa.text('number desc')],
        postgresql_where=sa.text('system_id is null'),
    )
    op.create_index(
        'failed_for_stores', 'runs', ['kind', 'store_id'],
        postgresql_where=sa.text("system_id is null and state = 'failed'"),
    )
    op.create_index('last_put', 'copies', ['store_id', sa.text('since desc')])
    op.create_index('marked', 'backups', ['id'], postgresql_where=sa.text('expired'))
    for name in ('newest_good', 'newest_partial', 'standing'):
        op.drop_index(name, table_name='backups')
    for name, partial in (('newest_good', 'false'), ('newest_partial', 'true')):
        op.create_index(
            name, 'backups', ['system_id', sa.text('sequence desc')],
            postgresql_where=sa.text(f"purpose = 'backup' and doubtful is false and partial is {partial}"),
        )
    op.create_index(
        'standing', 'backups', ['system_id', sa.text('time desc'), sa.text('sequence desc')],
        postgresql_include=['id', 'doubtful', 'purpose', 'held', 'partial', 'new_bytes', 'misdated'],
        postgresql_where=sa.text('expired is false'),
    )
    for function in (_COMES, _CHANGES, _GOES):
        op.execute(function)
    op.execute(f"update systems set newest_good = {_LAST} where newest_good is distinct from {_LAST}")
