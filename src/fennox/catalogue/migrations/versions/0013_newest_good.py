"""when each system's newest good backup was taken, kept by the database itself; the last run of each kind"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0013'
down_revision = '0012'
branch_labels = None
depends_on = None

_GOOD = "purpose = 'backup' and doubtful is false and partial is false"
_KEEP = f"""
create function keep_newest_good() returns trigger language plpgsql as $$
begin
    if tg_op = 'INSERT' then
        update systems set newest_good = new.time
        where id = new.system_id and (newest_good is null or newest_good < new.time);
    else
        update systems set newest_good = (
            select max(time) from backups where system_id = old.system_id and {_GOOD}
        ) where id = old.system_id;
    end if;
    return null;
end $$
"""


def upgrade() -> None:
    op.create_index('last_of_a_kind', 'runs', ['system_id', 'kind', sa.text('created desc')],
                    postgresql_where=sa.text("state = 'done'"))
    op.add_column('systems', sa.Column('newest_good', sa.DateTime(timezone=True)))
    op.execute(
        "update systems set newest_good = (select max(time) from backups"
        f" where system_id = systems.id and {_GOOD})"
    )
    op.execute(_KEEP)
    op.execute(
        "create trigger newest_good_comes after insert on backups for each row"
        " when (new.purpose = 'backup' and new.doubtful is false and new.partial is false)"
        " execute function keep_newest_good()"
    )
    op.execute(
        "create trigger newest_good_changes after update of doubtful, partial, purpose, time on backups for each row"
        " when ((old.doubtful, old.partial, old.purpose, old.time)"
        " is distinct from (new.doubtful, new.partial, new.purpose, new.time))"
        " execute function keep_newest_good()"
    )
    op.execute(
        "create trigger newest_good_goes after delete on backups for each row execute function keep_newest_good()"
    )
