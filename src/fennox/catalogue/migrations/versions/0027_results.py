"""what came of a run says by itself of which kind it is"""

from __future__ import annotations

from alembic import op

revision = '0027'
down_revision = '0026'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """
        update runs set result = case
            when result ? 'offered' then jsonb_build_object('kind', 'key', 'offered', result -> 'offered')
            when kind = 'restore' and result ? 'undone' then result || '{"kind": "undo"}'
            when kind = 'sweep' and coalesce((result ->> 'preview')::boolean, false)
                then (result - 'preview') || '{"kind": "preview"}'
            when kind = 'copy' then (result - 'from' - 'to') || jsonb_build_object(
                'kind', 'copy', 'source', coalesce(result -> 'from', '""'), 'target', coalesce(result -> 'to', '""'))
            else result || jsonb_build_object('kind', kind)
        end
        where result <> '{}' and not result ? 'kind'
        """
    )


def downgrade() -> None:
    op.execute(
        """
        update runs set result = case
            when result ->> 'kind' = 'preview' then (result - 'kind') || '{"preview": true}'
            when result ->> 'kind' = 'copy' then (result - 'kind' - 'source' - 'target') || jsonb_build_object(
                'from', result -> 'source', 'to', result -> 'target')
            else result - 'kind'
        end
        where result <> '{}'
        """
    )
