"""the login that a restore's target is reached by afterwards, where it is not the system's"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0030'
down_revision = '0029'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('sheets', sa.Column('after_login_id', sa.String(), nullable=True))
    op.create_foreign_key('fk_sheets_after_login_id_logins', 'sheets', 'logins', ['after_login_id'], ['id'])


def downgrade() -> None:
    op.drop_column('sheets', 'after_login_id')
