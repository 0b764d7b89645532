"""Lasting names of features, how each revision was made, and what was set aside; faces marked once."""

import hashlib
import json

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

# Tables whose text is sealed, with the column it is in.
_SEALED = {
    "printers": "facts",
    "documents": "body",
    "measurements": "body",
    "gap_trials": "body",
    "prints": "broke",
    "own_cards": "body",
}
_STORED_ELSEWHERE = ("held", "pushed", "mates")


def upgrade() -> None:
    with op.batch_alter_table("revisions") as table:
        table.add_column(sa.Column("names", sa.Text, nullable=True))
        table.add_column(sa.Column("motion", sa.Text, nullable=True))
    op.create_table(
        "set_aside",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("what", sa.String(200), nullable=False),
        sa.Column("why", sa.Text, nullable=False),
        sa.Column("body", sa.Text, nullable=False),
        sa.Column("noticed", sa.DateTime, nullable=False),
    )
    for name in _SEALED:
        with op.batch_alter_table(name) as table:
            table.add_column(sa.Column("seal", sa.String(24), nullable=True))
    _faces_marked_once()
    _seal()


def _faces_marked_once() -> None:
    """What holds, pushes and mates is told by holds, loads and mates; its second copy among the marks goes."""
    connection = op.get_bind()
    rows = connection.execute(sa.text("SELECT part_id, body FROM documents WHERE kind = 'duty'")).all()
    for part, body in rows:
        try:
            duty = json.loads(body)
            marks = {k: v for k, v in duty.get("marks", {}).items() if v not in _STORED_ELSEWHERE}
        except (ValueError, AttributeError, RecursionError):
            continue  # a damaged one is set aside when it is read
        if marks != duty.get("marks", {}):
            change = {"body": json.dumps(duty | {"marks": marks}), "part": part}
            connection.execute(
                sa.text("UPDATE documents SET body = :body WHERE part_id = :part AND kind = 'duty'"), change
            )


def _seal() -> None:
    """A digest of each text as it is now."""
    connection = op.get_bind()
    for table, column in _SEALED.items():
        rows = connection.execute(sa.text(f"SELECT rowid, {column} FROM {table} WHERE {column} IS NOT NULL")).all()
        for row, body in rows:
            seal = hashlib.sha256(str(body).encode("utf-8", "surrogatepass")).hexdigest()[:24]
            connection.execute(
                sa.text(f"UPDATE {table} SET seal = :seal WHERE rowid = :row"), {"seal": seal, "row": row}
            )
