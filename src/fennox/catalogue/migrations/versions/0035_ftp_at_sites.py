"""where a site's worker takes pushes by FTP with TLS"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0035'
down_revision = '0034'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("sites", sa.Column("drop_ftps", sa.String(), nullable=True))
    op.add_column("sites", sa.Column("drop_passive", sa.String(), nullable=True))


def downgrade() -> None:
    op.drop_column("sites", "drop_passive")
    op.drop_column("sites", "drop_ftps")
