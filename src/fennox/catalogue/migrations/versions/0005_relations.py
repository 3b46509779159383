"""who needs whom, ways through other machines, certificates, documents that people hand in"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0005'
down_revision = '0004'
branch_labels = None
depends_on = None

_NONE = sa.text("'[]'")


def upgrade() -> None:
    op.add_column('systems', sa.Column('needs', postgresql.JSONB(), nullable=False, server_default=_NONE))
    op.add_column('systems', sa.Column('via_id', sa.String(), sa.ForeignKey('systems.id', deferrable=True, initially='DEFERRED'), nullable=True))
    op.add_column('systems', sa.Column('key_until', sa.DateTime(timezone=True), nullable=True))
    op.add_column('backups', sa.Column('certificates', postgresql.JSONB(), nullable=False, server_default=_NONE))
    op.add_column('logins', sa.Column('become', sa.String(), nullable=False, server_default=''))
    op.add_column('logins', sa.Column('certificate', sa.String(), nullable=False, server_default=''))
    op.create_table(
        'handed_in',
        sa.Column('system_id', sa.String(), sa.ForeignKey('systems.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('document', sa.String(), primary_key=True),
        sa.Column('at', sa.DateTime(timezone=True), nullable=False),
        sa.Column('by', sa.String(), nullable=False),
        sa.Column('size', sa.BigInteger(), nullable=False),
        sa.Column('sealed', sa.LargeBinary(), nullable=True),
        sa.Column('backup_id', sa.String(), nullable=True),
    )
