"""a ceiling for what backups may take of a store"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0009'
down_revision = '0008'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('stores', sa.Column('ceiling', sa.String(), nullable=False, server_default=sa.text("''")))
    op.add_column('stores', sa.Column('over_since', sa.DateTime(timezone=True), nullable=True))
    op.add_column('copies', sa.Column('let_go', sa.Boolean(), nullable=False, server_default=sa.false()))
