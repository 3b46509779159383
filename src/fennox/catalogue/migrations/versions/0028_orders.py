"""what a run is to do says by itself of which kind it is; where a draft's target answers stands together"""

from __future__ import annotations

from alembic import op

revision = '0028'
down_revision = '0027'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """
        update runs set "order" = case kind
            when 'draft' then (jsonb_strip_nulls("order") - 'login' - 'address' - 'key') || jsonb_build_object(
                'kind', 'draft', 'target', jsonb_build_object(
                    'login', coalesce("order" -> 'login', '""'), 'address', coalesce("order" -> 'address', '""'),
                    'key', coalesce(nullif("order" -> 'key', 'null'), '""')))
            when 'restore' then
                '{"kind": "restore", "safety_backup": "", "safety_time": ""}' || jsonb_strip_nulls("order")
            when 'copy' then '{"kind": "copy", "backup": ""}' || jsonb_strip_nulls("order")
            else jsonb_strip_nulls("order") || jsonb_build_object('kind', kind)
        end
        where not "order" ? 'kind'
        """
    )
    # an order without a kind would be null, which a check lets pass
    fits = """coalesce("order" ->> 'kind', '') = kind"""
    op.create_check_constraint("order_is_of_its_kind", "runs", fits)


def downgrade() -> None:
    op.drop_constraint("order_is_of_its_kind", "runs")
    op.execute(
        """
        update runs set "order" = case
            when kind = 'draft' then ("order" - 'kind' - 'target') || ("order" -> 'target')
            else "order" - 'kind'
        end
        """
    )
