"""Details and photos of prints."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("prints") as table:
        table.add_column(sa.Column("details", sa.Text, nullable=True))
        table.add_column(sa.Column("details_seal", sa.String(24), nullable=True))
    op.create_table(
        "photos",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("print_id", sa.Integer, sa.ForeignKey("prints.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("picture", sa.LargeBinary, nullable=False),
        sa.Column("thumb", sa.LargeBinary, nullable=False),
    )
