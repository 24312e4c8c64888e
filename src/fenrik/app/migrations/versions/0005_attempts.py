"""how often a task was begun, and by whom"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.alter_column("task", "queue_id", type_=sa.BigInteger())
    op.add_column("task", sa.Column("attempt", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("task", sa.Column("in_vain", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("task", sa.Column("worker", sa.String(), nullable=False, server_default=""))
    op.add_column("task", sa.Column("again_at", sqlmodel.sql.sqltypes.UTCDateTime(), nullable=True))


def downgrade() -> None:
    for name in ("again_at", "worker", "in_vain", "attempt"):
        op.drop_column("task", name)
    op.alter_column("task", "queue_id", type_=sa.Integer())
