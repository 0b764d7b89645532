"""The last number given of each kind of record."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "numbers", sa.Column("kind", sa.Text, primary_key=True), sa.Column("last", sa.Integer, nullable=False)
    )
