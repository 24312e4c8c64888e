"""further files of jobs; the shop's library"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"

JSON = sa.JSON().with_variant(postgresql.JSONB(astext_type=sa.Text()), "postgresql")


def upgrade() -> None:
    op.add_column("revision", sa.Column("files", JSON, nullable=False, server_default="{}"))
    op.create_table(
        "library_tool",
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("data", JSON, nullable=False),
        sa.PrimaryKeyConstraint("number"),
    )
    op.create_table(
        "library_material",
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("data", JSON, nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )


def downgrade() -> None:
    op.drop_table("library_material")
    op.drop_table("library_tool")
    op.drop_column("revision", "files")
