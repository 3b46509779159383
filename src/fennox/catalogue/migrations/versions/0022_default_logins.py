"""which logins of a fresh installation still work on a system, as its takes see it"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0022'
down_revision = '0021'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('systems', sa.Column('default_logins', JSONB(), nullable=False, server_default='[]'))
    op.add_column('systems', sa.Column('defaults_tried', sa.DateTime(timezone=True)))


def downgrade() -> None:
    op.drop_column('systems', 'defaults_tried')
    op.drop_column('systems', 'default_logins')
