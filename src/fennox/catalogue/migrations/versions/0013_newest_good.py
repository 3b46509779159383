"""when each system's newest good backup was taken, kept by the database itself; indexes for long lists"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0013'
down_revision = '0012'
branch_labels = None
depends_on = None

_GOOD = "purpose = 'backup' and doubtful is false and partial is false"
_NEWEST = f"(select max(time) from backups where system_id = systems.id and {_GOOD})"
_COMES = f"""
create function newest_good_comes() returns trigger language plpgsql as $$
begin
    update systems set newest_good = came.newest
    from (select system_id, max(time) as newest from added where {_GOOD} group by system_id) came
    where id = came.system_id and (newest_good is null or newest_good < came.newest);
    return null;
end $$
"""
_CHANGES = f"""
create function newest_good_changes() returns trigger language plpgsql as $$
begin
    update systems set newest_good = {_NEWEST}
    where id in (
        select was.system_id from was join became using (id)
        where (was.doubtful, was.partial, was.purpose, was.time)
              is distinct from (became.doubtful, became.partial, became.purpose, became.time)
    );
    return null;
end $$
"""
_GOES = f"""
create function newest_good_goes() returns trigger language plpgsql as $$
begin
    update systems set newest_good = {_NEWEST}
    where id in (select system_id from was) and newest_good is distinct from {_NEWEST};
    return null;
end $$
"""
# once for a statement: one that enters or removes thousands of backups writes each system once
_TRIGGERS = {
    'newest_good_comes': "after insert on backups referencing new table as added",
    'newest_good_changes': "after update on backups referencing old table as was new table as became",
    'newest_good_goes': "after delete on backups referencing old table as was",
}


def upgrade() -> None:
    op.create_index('last_of_a_kind', 'runs', ['system_id', 'kind', sa.text('created desc')],
                    postgresql_where=sa.text("state = 'done'"))
    op.create_index('standing_concerns', 'concerns', ['cause', 'severity', 'since', 'about', 'key'],
                    postgresql_include=['muted_until'], postgresql_where=sa.text('ended is null'))
    op.add_column('systems', sa.Column('newest_good', sa.DateTime(timezone=True)))
    op.execute(f"update systems set newest_good = {_NEWEST}")
    for function in (_COMES, _CHANGES, _GOES):
        op.execute(function)
    for name, when in _TRIGGERS.items():
        op.execute(f"create trigger {name} {when} for each statement execute function {name}()")
