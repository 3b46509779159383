"""what a restore is for, and machines that are there to practise on"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0029'
down_revision = '0028'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('systems', sa.Column('spare', sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column('sheets', sa.Column('spare_id', sa.String(), nullable=True))
    op.create_foreign_key('fk_sheets_spare_id_systems', 'sheets', 'systems', ['spare_id'], ['id'], ondelete='SET NULL')
    op.execute(
        """
        update sheets set data = (data - 'at_another_machine' - 'takes_over') || case
            when not coalesce((data ->> 'at_another_machine')::boolean, false) then '{"purpose": "repair"}'::jsonb
            when not coalesce((data ->> 'takes_over')::boolean, false) then '{"purpose": "practise"}'::jsonb
            when coalesce((data #>> '{proof,proved}')::boolean, false)
                then jsonb_build_object('purpose', 'replace', 'accepted', data #> '{proof,at}')
            else '{"purpose": "replace"}'::jsonb
        end
        where not data ? 'purpose'
        """
    )


def downgrade() -> None:
    op.execute(
        """
        update sheets set data = (
            data - 'purpose' - 'accepted' - 'accepted_by' - 'spare' - 'new_name' - 'new_identity' - 'system_address'
        ) || jsonb_build_object(
            'at_another_machine', data ->> 'purpose' <> 'repair',
            'takes_over', case data ->> 'purpose' when 'replace' then true when 'repair' then null else false end
        )
        """
    )
    op.drop_column('sheets', 'spare_id')
    op.drop_column('systems', 'spare')
