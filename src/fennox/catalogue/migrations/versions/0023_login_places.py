"""where an administrator has admitted a login, beside the systems and stores that use it"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0023'
down_revision = '0022'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'login_places',
        sa.Column('login_id', sa.String(), sa.ForeignKey('logins.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('address', sa.String(), primary_key=True),
        sa.Column('key', sa.String(), primary_key=True),
        sa.Column('by', sa.String(), nullable=False),
        sa.Column('at', sa.DateTime(timezone=True), nullable=False),
    )


def downgrade() -> None:
    op.drop_table('login_places')
