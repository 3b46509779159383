"""notify the scheduler of the changes it decides by

Triggers notify it however a row was changed. Payloads are the names of its duties.
"""

from __future__ import annotations

from alembic import op

revision = '0017'
down_revision = '0016'
branch_labels = None
depends_on = None

_TELL = """
create function tell_changed() returns trigger language plpgsql as $$
begin
    perform pg_notify('fennox_changed', tg_argv[0]);
    return null;
end $$
"""
# table, which changes, which duty is notified
_TOLD = (
    ("systems", "insert or delete or update of version, suspended_because, retired, labels", "decide"),
    ("routines", "insert or delete or update of version, mode", "decide"),
    ("alerts", "insert", "alert"),
    ("alert_routes", "insert or delete or update of mode, digest", "alert"),
)


def upgrade() -> None:
    op.execute(_TELL)
    for table, when, duty in _TOLD:
        op.execute(
            f"create trigger {table}_told after {when} on {table} for each statement "
            f"execute function tell_changed('{duty}')"
        )


def downgrade() -> None:
    for table, _, _ in _TOLD:
        op.execute(f"drop trigger {table}_told on {table}")
    op.execute("drop function tell_changed()")
