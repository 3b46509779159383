"""what is done around takes, systems that are retired, looks between takes"""

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
    op.add_column('systems', sa.Column('looked', sa.DateTime(timezone=True), nullable=True))
    op.add_column('systems', sa.Column('differs', sa.String(), nullable=False, server_default=sa.text("''")))
    op.add_column('systems', sa.Column('differs_since', sa.DateTime(timezone=True), nullable=True))
    op.add_column('systems', sa.Column('differs_state', sa.String(), nullable=False, server_default=sa.text("''")))
    op.add_column('systems', sa.Column('differs_still', sa.DateTime(timezone=True), nullable=True))
    for name, default in (('look_every', '0'), ('settle', '10'), ('most_a_day', '4')):
        op.add_column('routines', sa.Column(name, sa.BigInteger(), nullable=False, server_default=sa.text(default)))
    op.create_table(
        'states',
        sa.Column('system_id', sa.String(), sa.ForeignKey('systems.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('backup_id', sa.String(), nullable=False),
        sa.Column('key_set', sa.String(), nullable=False),
        sa.Column('generation', sa.BigInteger(), nullable=False),
        sa.Column('parts', postgresql.JSONB(), nullable=False),
    )
