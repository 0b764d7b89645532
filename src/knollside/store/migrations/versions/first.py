"""The first version of the workshop."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "meshes",
        sa.Column("hash", sa.String(64), primary_key=True),
        sa.Column("corners", sa.Integer, nullable=False),
        sa.Column("triangles", sa.Integer, nullable=False),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "jobs", sa.Column("id", sa.Integer, primary_key=True), sa.Column("name", sa.String(120), nullable=False)
    )
    op.create_table(
        "printers",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(60), nullable=False, unique=True),
        sa.Column("facts", sa.Text, nullable=False),
    )
    op.create_table(
        "spools",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(60), nullable=False),
        sa.Column("material", sa.String(40), nullable=False),
        sa.Column("grams_left", sa.Float, nullable=False),
        sa.Column("dry", sa.Boolean, nullable=False),
    )
    op.create_table(
        "parts",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("job_id", sa.Integer, sa.ForeignKey("jobs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("printer_id", sa.Integer, sa.ForeignKey("printers.id")),
        sa.Column("spool_id", sa.Integer, sa.ForeignKey("spools.id")),
    )
    op.create_table(
        "revisions",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("part_id", sa.Integer, sa.ForeignKey("parts.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("mesh_hash", sa.String(64), sa.ForeignKey("meshes.hash"), nullable=False),
        sa.Column("note", sa.Text, nullable=False),
    )
    op.create_table(
        "documents",
        sa.Column("part_id", sa.Integer, sa.ForeignKey("parts.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("kind", sa.String(20), primary_key=True),
        sa.Column("body", sa.Text, nullable=False),
    )
    op.create_table(
        "measurements",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column(
            "printer_id", sa.Integer, sa.ForeignKey("printers.id", ondelete="CASCADE"), nullable=False, index=True
        ),
        sa.Column("material", sa.String(40), nullable=False, index=True),
        sa.Column("taken", sa.DateTime, nullable=False),
        sa.Column("body", sa.Text, nullable=False),
    )
    op.create_table(
        "prints",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("part_id", sa.Integer, sa.ForeignKey("parts.id", ondelete="SET NULL"), index=True),
        sa.Column(
            "printer_id", sa.Integer, sa.ForeignKey("printers.id", ondelete="CASCADE"), nullable=False, index=True
        ),
        sa.Column("material", sa.String(40), nullable=False),
        sa.Column("made", sa.DateTime, nullable=False),
        sa.Column("estimate_hours", sa.Float),
        sa.Column("actual_hours", sa.Float),
        sa.Column("outcome", sa.String(200), nullable=False),
        sa.Column("broke", sa.Text),
    )


def downgrade() -> None:
    for table in ("prints", "measurements", "documents", "revisions", "parts", "spools", "printers", "jobs", "meshes"):
        op.drop_table(table)
