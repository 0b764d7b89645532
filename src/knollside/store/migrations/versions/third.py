"""Rungs of gap ladders."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "gap_trials",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("printer_id", sa.Integer, sa.ForeignKey("printers.id", ondelete="CASCADE"), index=True),
        sa.Column("material", sa.String(40), nullable=False, index=True),
        sa.Column("taken", sa.DateTime, nullable=False),
        sa.Column("body", sa.Text, nullable=False),
    )
