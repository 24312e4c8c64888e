"""what the list of jobs shows, and jobs that were deleted and can come back"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"

JSON = sa.JSON().with_variant(postgresql.JSONB(astext_type=sa.Text()), "postgresql")


def upgrade() -> None:
    op.add_column("job", sa.Column("summary", JSON, nullable=False, server_default="{}"))
    op.add_column("job", sa.Column("deleted_at", sqlmodel.sql.sqltypes.UTCDateTime(), nullable=True))


def downgrade() -> None:
    op.drop_column("job", "deleted_at")
    op.drop_column("job", "summary")
