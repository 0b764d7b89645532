"""The workshop file as one thing to write to: every edit one transaction, joined where edits belong together."""

from __future__ import annotations

import contextlib
import hashlib
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import TypeVar

from pydantic import ValidationError
from sqlalchemy import ColumnElement, Engine, func, select
from sqlalchemy.exc import DBAPIError, IntegrityError
from sqlalchemy.orm import InstrumentedAttribute, Session

from knollside.core.model import Refused, fault_of
from knollside.store.changes import Change, noted, watch
from knollside.store.copies import keep_closing
from knollside.store.opening import Held, open_engine
from knollside.store.records import SetAside
from knollside.store.replacing import finish, prepared, ready_of, sweep
from knollside.store.salvage import Salvaged, salvage
from knollside.store.tables import NumberRow, SetAsideRow
from knollside.store.trouble import found_damage, words_of

T = TypeVar("T")


def seal_of(text: str) -> str:
    """What tells a text from one in which a byte was changed."""
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:24]


_PRINTS = {"prints", "printers", "parts"}
_LARGEST = 8 * 2**30  # bytes of a file that is looked through for what can be saved
_LONGEST = 200_000  # characters kept of what was set aside


class Ledger:
    """One workshop file, held open by one window. ``told`` are sentences about how it opened."""

    def __init__(self, path: Path, empty: bool = False) -> None:
        self._held = Held(path, empty)
        self.path = self._held.path
        self.told: list[str] = []
        self._open: Session | None = None
        self._edited = False
        self.changes: tuple[Change, ...] = ()  # what the last edit changed
        self.generation = 0  # changes when prints may be others than they were
        try:
            sweep(self.path)
            if ready_of(self.path).is_file():
                finish(self.path)
                self._held.moved_to(self.path)
            self._engine = self._opened()
            self._held.only_mine()
        except OSError as error:
            self._held.release()
            raise Refused(f"The workshop {path} cannot be opened: {words_of(error, self.path)}.") from None
        except BaseException:
            self._held.release()
            raise

    def _opened(self) -> Engine:
        try:
            return open_engine(self.path)
        except Refused:
            raise
        except (sqlite3.Error, DBAPIError, OSError, ValueError, KeyError, TypeError) as error:
            if not found_damage(error):
                words = f"The workshop {self.path} cannot be opened: {words_of(error, self.path)}. Nothing was changed."
                raise Refused(words) from None
            found = error
        try:
            return self._renewed(found)
        except (OSError, sqlite3.Error, DBAPIError) as error:
            words = f"The workshop {self.path} is damaged, and what is left of it cannot be saved now: "
            raise Refused(f"{words}{words_of(error, self.path)}. It was left as it is.") from None

    def _renewed(self, why: Exception) -> Engine:
        """A new file filled with what could be saved, in place of the damaged one, which is set aside. A file of which
        nothing can be read, and that has no copy, is no workshop: it is left alone."""
        if self.path.stat().st_size > _LARGEST:
            raise Refused(f"{self.path} is no workshop that could be read, and too large to look through.")
        saved: list[Salvaged] = []

        def fill(fresh: Path) -> None:
            saved.append(salvage(self.path, fresh))
            if not saved[0].saved and not saved[0].from_copy:
                raise Refused(f"{self.path} is no workshop: nothing of one could be read in it. It was left as it is.")

        prepared(self.path, fill)
        aside = finish(self.path)
        self._held.moved_to(self.path)
        self.told.append(saved[0].words(aside or self.path))
        return open_engine(self.path)

    def close(self) -> None:
        self._engine.dispose()
        if self._edited:
            keep_closing(self.path)
        self._held.release()

    def renew(self, fill: Callable[[Path], None]) -> Path:
        """Put another content in place of the present one, which is set aside; returns where. All or nothing."""
        self._held.still_there()
        try:
            prepared(self.path, fill)
            with contextlib.closing(sqlite3.connect(self.path)) as raw:
                raw.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            self._engine.dispose()
            aside = finish(self.path)
        except (OSError, sqlite3.Error) as error:
            ready_of(self.path).unlink(missing_ok=True)
            words = f"The workshop was left as it is: {words_of(error, self.path)}."
            raise Refused(words) from None
        self._held.moved_to(self.path)
        self._engine = self._opened()
        self.generation += 1
        return aside or self.path

    @property
    def editing(self) -> bool:
        """Whether an edit is under way: what is read now may never be kept."""
        return self._open is not None

    @contextmanager
    def edit(self) -> Iterator[Session]:
        """A transaction; inside another one, part of that. Raises :class:`Refused` where it cannot be kept."""
        if self._open is not None:
            yield self._open
            return
        self._held.still_there()
        try:
            with Session(self._engine) as session, session.begin():
                watch(session.connection())
                self._open, self._edited, self.changes = session, True, ()
                yield session
                self.changes = noted(session)
            if any(c.table in _PRINTS for c in self.changes):
                self.generation += 1
        except IntegrityError as error:
            if "UNIQUE" not in str(error.orig):
                raise Refused("What this belongs to is not in the workshop any more.") from None
            raise Refused("That name is taken already; choose another.") from None
        except (DBAPIError, sqlite3.Error) as error:
            words = (
                f"The workshop could not keep this edit: {words_of(error, self.path)}. What was kept before is safe."
            )
            raise Refused(words) from None
        finally:
            self._open = None

    @contextmanager
    def read(self) -> Iterator[Session]:
        """What is kept now, edits of an open transaction with it. Raises :class:`Refused` where it cannot be read."""
        if self._open is not None:
            yield self._open
            return
        try:
            with Session(self._engine) as session:
                yield session
        except (DBAPIError, sqlite3.Error) as error:
            raise Refused(f"The workshop could not be read: {words_of(error, self.path)}.") from None

    def number(
        self, column: InstrumentedAttribute[int], *where: ColumnElement[bool], of: str = "", many: int = 1
    ) -> int:
        """The next number of a kind of record, in ``column`` (of those ``where``), the first of so ``many``: numbers
        that were never given."""
        kind = f"{column.class_.__tablename__}{of}"
        with self.edit() as s:
            highest = s.scalar(select(func.max(column)).where(*where)) or 0
            row = s.get(NumberRow, kind)
            if row is None:
                row = NumberRow(kind=kind, last=0)
                s.add(row)
            first = max(highest, row.last) + 1
            row.last = first + many - 1
            return first

    # What cannot be read

    def tried(self, what: str, body: str, seal: str | None, read: Callable[[str], T]) -> T | None:
        """``read(body)``, or None where that is not what it should be, or not what was written (its ``seal`` is not
        that of the text): it is then set aside, once, and told."""
        try:
            if seal is not None and seal != seal_of(body):
                raise ValueError("it was changed since it was written")
            return read(body)
        except (ValidationError, ValueError, TypeError, RecursionError, OverflowError) as error:
            reason = _reason(error)
            self._keep_aside(what, reason, body)
            sentence = f"{what} could not be read ({reason}) and was set aside; the rest is as it was."
            if sentence not in self.told:
                self.told.append(sentence)
            return None

    def _keep_aside(self, what: str, why: str, body: str) -> None:
        with self.edit() as s:
            same = s.scalars(select(SetAsideRow).where(SetAsideRow.what == what, SetAsideRow.body == body[:_LONGEST]))
            if same.first() is None:
                s.add(SetAsideRow(what=what[:200], why=why, body=body[:_LONGEST], noticed=datetime.now()))

    def aside(self) -> list[SetAside]:
        with self.read() as s:
            return [SetAside(r.what, r.why, r.body, r.noticed) for r in s.scalars(select(SetAsideRow))]


def _reason(error: Exception) -> str:
    if isinstance(error, ValidationError):
        return fault_of(error)
    return str(error)[:200] or type(error).__name__
