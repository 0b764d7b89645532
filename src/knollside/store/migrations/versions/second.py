"""A person's own values of materials."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "own_cards",
        sa.Column("name", sa.String(40), primary_key=True),
        sa.Column("body", sa.Text, nullable=False),
    )
