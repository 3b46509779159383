"""the backups of a system are counted, and their ladders worked out, from an index alone

The oldest run of each routine is found by an index, too, however many wait, and so are the worst concerns.
"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0015'
down_revision = '0014'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index('to_be_counted', 'backups', ['system_id'], postgresql_where=sa.text("purpose = 'backup'"))
    op.create_index(
        'standing', 'backups', ['system_id', sa.text('time desc'), sa.text('sequence desc')],
        postgresql_include=['id', 'doubtful', 'purpose', 'held', 'partial', 'new_bytes'],
        postgresql_where=sa.text('expired is false'),
    )
    op.drop_index('ix_backups_system_id', table_name='backups')  # a_sequence_number_is_used_once begins with it
    op.create_index(
        'worst_concerns', 'concerns', ['severity', 'since', 'about', 'key'], postgresql_where=sa.text('ended is null')
    )
    op.drop_index('waiting_in_the_queue', table_name='runs')
    lane = (
        "case when routine_id is not null then routine_id"
        " when by in ('schedule', 'rebuild') or starts_with(by, 'routine ') then '' else '!' end"
    )
    op.add_column('runs', sa.Column('lane', sa.String(), sa.Computed(lane, persisted=True), nullable=False))
    op.create_index(
        'waiting_in_the_queue', 'runs', ['lane', 'queued_at'], postgresql_where=sa.text("(state = 'queued') is true")
    )
