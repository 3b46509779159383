"""the login of the entrance that a restore takes, where it is another one than a capture's"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0008'
down_revision = '0007'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('sheets', sa.Column('entrance_login_id', sa.String(), sa.ForeignKey('logins.id'), nullable=True))
