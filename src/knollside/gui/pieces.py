"""Which test piece is in hand, and its sizes as the person wants them; Proof makes it, Bench measures it."""

from __future__ import annotations

from collections.abc import Mapping

from knollside.core.job.questions.proof import Piece
from knollside.core.proof.fromjob import Wish
from knollside.gui import nodes
from knollside.gui.answers import Answer
from knollside.gui.nodes import PieceWish
from knollside.gui.session import Session

FIRST = "bar"


class Pieces:
    """One for the window. Every size the person gave belongs to one mesh."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.chosen = FIRST
        self._own: dict[tuple[str, str, str], float] = {}

    @property
    def wishes(self) -> tuple[Wish, ...]:
        """Every piece with this job's sizes, and the person's own where given."""
        out = []
        for w in nodes.wishes_of(self.session.view.inputs):
            for name, size in self._sizes(w.name):
                w = w.with_value(name, size)
            out.append(w)
        return tuple(out)

    def _sizes(self, piece: str) -> tuple[tuple[str, float], ...]:
        mesh = self.session.view.part.mesh_hash
        return tuple((name, v) for (m, p, name), v in sorted(self._own.items()) if (m, p) == (mesh, piece))

    def choose(self, name: str, sizes: Mapping[str, float] | None = None) -> None:
        """Turn to a piece, with sizes that whoever sends the person there knows."""
        self.chosen = name
        mesh = self.session.view.part.mesh_hash
        self._own |= {(mesh, name, size): v for size, v in (sizes or {}).items()}
        self._turn()

    def resize(self, name: str, value: float) -> None:
        """A size of the chosen piece as the person wants it."""
        self._own[self.session.view.part.mesh_hash, self.chosen, name] = value
        self._turn()

    def _turn(self) -> None:
        """Turn the question to the chosen piece with the sizes it has now."""
        self.session.choose(nodes.PIECE, PieceWish(self.chosen, self._sizes(self.chosen)))
        self.session.touch()

    @property
    def answer(self) -> Answer[Piece]:
        return self.session.view.get(nodes.PIECE)

    @property
    def piece(self) -> Piece | None:
        """The chosen piece, made with exactly the present sizes."""
        made = self.answer.fresh
        return made if made is not None and made.piece.name == self.chosen else None
