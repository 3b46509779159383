"""by how much the clock of a system differs"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0010'
down_revision = '0009'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('systems', sa.Column('skew', sa.Float(), nullable=True))
