"""The workshop: one file with its parts, machines and what was learned, kept as it is edited."""

from __future__ import annotations

import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from knollside.core.model import Refused
from knollside.store.acts import make
from knollside.store.changes import Change
from knollside.store.copies import Copy, backup, copies_of, keep_copy
from knollside.store.learned import Learned
from knollside.store.ledger import Ledger
from knollside.store.machines import Machines
from knollside.store.parts import Parts
from knollside.store.records import SetAside
from knollside.store.running import Running
from knollside.store.trouble import words_of


class Workshop:
    """One workshop file, held open by one window. Records go in and come out; no row leaves this room."""

    def __init__(self, path: Path, empty: bool = False) -> None:
        """Open the file, or begin it. Raises :class:`Refused` with the reason, :class:`NoneThere` where it is missing
        and copies of it are there, unless ``empty`` says to begin anew."""
        self._ledger = Ledger(path, empty)
        self.path = self._ledger.path
        self.parts, self.machines, self.learned = Parts(self._ledger), Machines(self._ledger), Learned(self._ledger)
        self.running = Running(self._ledger)

    @classmethod
    def from_copy(cls, path: Path, copy: Copy) -> Workshop:
        """The workshop as a copy has it, where the file itself is missing or empty. Raises :class:`Refused`."""
        shop = cls(path, empty=True)
        try:
            shop.restore(copy).unlink(missing_ok=True)  # the empty one
        except Refused:
            shop.close()
            path.unlink(missing_ok=True)  # nothing but an empty one was begun
            raise
        return shop

    @property
    def told(self) -> list[str]:
        """Sentences about what could not be read, in the order they were noticed."""
        return self._ledger.told

    @property
    def aside(self) -> list[SetAside]:
        return self._ledger.aside()

    @contextmanager
    def together(self) -> Iterator[None]:
        """Edits made inside are one transaction: all or none. :attr:`changes` tells afterwards what they changed."""
        with self._ledger.edit():
            yield

    @property
    def changes(self) -> tuple[Change, ...]:
        """Every record that the last transaction changed, from what it was to what it is."""
        return self._ledger.changes

    def make(self, changes: tuple[Change, ...]) -> tuple[Change, ...]:
        """Make changes that were noted before, or their reverse; see :func:`knollside.store.acts.make`."""
        return make(self._ledger, changes)

    def copies(self) -> list[Copy]:
        """Copies kept beside the file, the newest first."""
        return copies_of(self.path)

    def keep_copy(self, why: str = "by hand") -> Path:
        try:
            return keep_copy(self.path, why)
        except (OSError, sqlite3.Error) as error:
            raise Refused(f"No copy could be made: {words_of(error, self.path)}.") from None

    def restore(self, copy: Copy) -> Path:
        """Put a copy in place of what is there now, which is set aside; returns where."""
        return self._ledger.renew(lambda fresh: copied(copy, fresh))

    def take_in(self, other: Path) -> Path:
        """Put a whole workshop that was written out (and read by the reading process) in place of this one."""
        return self._ledger.renew(lambda fresh: backup(other, fresh))

    def close(self) -> None:
        self._ledger.close()


def copied(copy: Copy, fresh: Path) -> None:
    """A copy's content in a new file."""
    if not copy.path.is_file():
        raise Refused(f"The copy {copy.path.name} is gone.")
    shutil.copyfile(copy.path, fresh)
