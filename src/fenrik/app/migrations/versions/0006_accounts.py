"""accounts and sessions, and who made a revision or a release"""

import sqlalchemy as sa
import sqlmodel
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    when = sqlmodel.sql.sqltypes.UTCDateTime
    op.create_table(
        "account",
        sa.Column("name", sa.String(), primary_key=True),
        sa.Column("role", sa.String(), nullable=False),
        sa.Column("password", sa.String(), nullable=False),
        sa.Column("wrong", sa.Integer(), nullable=False),
        sa.Column("locked_until", when(), nullable=True),
        sa.Column("made_at", when(), nullable=False),
    )
    op.create_table(
        "session",
        sa.Column("word", sa.String(), primary_key=True),
        sa.Column("account", sa.String(), sa.ForeignKey("account.name", ondelete="CASCADE"), nullable=False),
        sa.Column("made_at", when(), nullable=False),
        sa.Column("seen_at", when(), nullable=False),
    )
    op.create_index("ix_session_account", "session", ["account"])
    for table in ("revision", "release"):
        op.add_column(table, sa.Column("by", sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    for table in ("release", "revision"):
        op.drop_column(table, "by")
    op.drop_table("session")
    op.drop_table("account")
