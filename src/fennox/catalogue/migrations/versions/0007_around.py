"""what takes did on a system before them and have not undone yet; systems that are retired"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0007'
down_revision = '0006'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        'systems',
        sa.Column('left_open', postgresql.JSONB(), nullable=False, server_default=sa.text("'[]'::jsonb")),
    )
    op.add_column('systems', sa.Column('retired_because', sa.String(), nullable=False, server_default=sa.text("''")))
    op.add_column('systems', sa.Column('let_go', sa.Boolean(), nullable=False, server_default=sa.false()))
