"""Runs, hours somebody is in, logs of spools and printers."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "running",
        sa.Column("kind", sa.Text, primary_key=True),
        sa.Column("owner", sa.Integer, primary_key=True),
        sa.Column("body", sa.Text, nullable=False),
        sa.Column("seal", sa.String(24), nullable=True),
    )
