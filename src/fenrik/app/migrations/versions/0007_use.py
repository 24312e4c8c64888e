"""which results are in use"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.create_table(
        "artefact_use",
        sa.Column("job_id", sa.String(), sa.ForeignKey("job.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("setup", sa.String(), primary_key=True),
        sa.Column("key", sa.String(), primary_key=True),
    )
    op.create_index("ix_artefact_use_key", "artefact_use", ["key"])


def downgrade() -> None:
    op.drop_table("artefact_use")
