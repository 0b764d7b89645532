"""Taking an edit back, and making it again: each record from what the edit left to what it was, and nothing else.

It is done whole or not at all, and only where every record still is what the edit left.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import Connection, text

from knollside.core.mesh.identity import Named, Names
from knollside.core.model import Refused
from knollside.store.changes import Change, Values, key_of, noted
from knollside.store.ledger import Ledger
from knollside.store.running import Log
from knollside.store.tables import Base, RevisionRow

# In words, for a sentence: what a record is.
_WORDS = {
    "jobs": "a job", "printers": "a printer", "spools": "a spool", "parts": "a part", "revisions": "a part's mesh",
    "documents": "what is said of a part", "measurements": "a reading", "gap_trials": "a rung of a gap ladder",
    "prints": "a print", "photos": "a photo", "own_cards": "your values of a material", "running": "a run or a log",
}  # fmt: skip


_OWNERS = {"spools": str(Log.SPOOL), "printers": str(Log.PRINTER)}  # whose logs are kept by their number


class Moved(Refused):
    """A record is not any more what the edit left. ``change`` is the one that could not be made."""

    def __init__(self, change: Change, words: str) -> None:
        super().__init__(words)
        self.change = change


def make(ledger: Ledger, changes: Iterable[Change]) -> tuple[Change, ...]:
    """Make changes, all or none, in one transaction; returns them as they were made, with whatever was added to a
    record in between that is no edit (names of a mesh that were found later). Raises :class:`Moved` where a record is
    not what the change says it was, :class:`Refused` where something else would have to change with it."""
    wanted = tuple(changes)
    with ledger.edit() as s:
        connection = s.connection()
        connection.exec_driver_sql("PRAGMA defer_foreign_keys=ON")
        made = [_checked(connection, c) for c in wanted]
        for c in made:
            _refuse_loose_ends(connection, c, made)
        for c in made:
            _write(connection, c)
        if {(c.table, c.key) for c in noted(s)} - {(c.table, c.key) for c in made}:
            raise Refused("Other records hang on this one; it stays as it is.")
    return tuple(made)


def _row(connection: Connection, c: Change) -> Values | None:
    where = " AND ".join(f"{k} = :{k}" for k in key_of(c.table))
    told = connection.execute(text(f"SELECT * FROM {c.table} WHERE {where}"), _keyed(c)).mappings().first()
    return None if told is None else dict(told)


def _keyed(c: Change) -> Values:
    return dict(zip(key_of(c.table), c.key, strict=True))


def _checked(connection: Connection, c: Change) -> Change:
    """The change as it can be made on what is there. Raises :class:`Moved`."""
    there = _row(connection, c)
    if (there is None) != (c.before is None):
        gone = "is gone" if there is None else "is there again"
        raise Moved(c, _sentence(f"{_WORDS[c.table]} {gone}"))
    if there is None or c.before is None:
        return c
    named = c.of(RevisionRow) and "names" in c.before
    was = {k: v for k, v in c.before.items() if not (named and k == "names")}
    if any(there[k] != v for k, v in was.items()):
        raise Moved(c, _sentence(f"{_WORDS[c.table]} was changed since"))
    if not named:
        return c
    if c.after is None:
        return Change(c.table, c.key, there, None)
    moved = names_moved(there["names"], c.before["names"], c.after["names"])
    if moved is None:
        raise Moved(c, "The names of its features were changed since.")
    return Change(c.table, c.key, c.before | {"names": there["names"]}, c.after | {"names": moved})


def names_moved(there: str | None, was: str | None, to: str | None) -> str | None:
    """The names that are ``there`` with what turns ``was`` into ``to``: entries come and go, what was named since
    stays, and no number is given twice. None where an entry is not what it was."""
    now, a, b = (Names() if n is None else Names.model_validate_json(n) for n in (there, was, to))
    old, new = {e.id: e for e in a.entries}, {e.id: e for e in b.entries}
    out: list[Named] = []
    for e in now.entries:
        if e.id in old and old[e.id] != new.get(e.id):
            if e != old[e.id]:
                return None
            if e.id in new:
                out.append(new[e.id])
        else:
            out.append(e)
    have = {e.id for e in now.entries}
    out += [e for e in b.entries if e.id not in have and e.id not in old]
    last = {k: max(now.last.get(k, 0), b.last.get(k, 0)) for k in now.last | b.last}
    return Names(of=b.of or now.of, entries=tuple(out), last=last).model_dump_json()


def _refuse_loose_ends(connection: Connection, c: Change, made: list[Change]) -> None:
    """A record that goes may leave nothing behind that belongs to it."""
    if c.after is not None or c.before is None:
        return
    going = {(d.table, d.key) for d in made if d.after is None}
    if c.of(RevisionRow):
        newer = "SELECT id, number FROM revisions WHERE part_id = :part_id AND number > :number"
        for row in connection.execute(text(newer), c.before):
            if ("revisions", (row[0],)) not in going:
                later = Change("revisions", (row[0],), None, {})
                raise Moved(later, "A later mesh of that part rests on this one; take the later one back first.")
    if c.table in _OWNERS:
        asked = text("SELECT kind, owner FROM running WHERE kind = :kind AND owner = :id")
        for row in connection.execute(asked, {"kind": _OWNERS[c.table], "id": c.key[0]}):
            if ("running", tuple(row)) not in going:
                raise Moved(Change("running", tuple(row), None, {}), _sentence(f"{_WORDS[c.table]} has a log by now"))
    let_go = {(d.table, d.key, column) for d in made if d.after is not None for column in d.after}
    for table in Base.metadata.sorted_tables:
        for column in table.columns:
            for foreign in column.foreign_keys:
                if foreign.column.table.name != c.table:
                    continue
                keys = ", ".join(k.name for k in table.primary_key.columns)
                asked = text(f"SELECT {keys} FROM {table.name} WHERE {column.name} = :it")
                for row in connection.execute(asked, {"it": c.before[foreign.column.name]}):
                    key = tuple(row)
                    if (table.name, key) not in going and (table.name, key, column.name) not in let_go:
                        words = f"{_WORDS[table.name]} still belongs to {_WORDS[c.table]} that would go"
                        raise Moved(Change(table.name, key, {column.name: None}, {column.name: None}), _sentence(words))


def _sentence(words: str) -> str:
    return words[0].upper() + words[1:] + "."


def _write(connection: Connection, c: Change) -> None:
    where = " AND ".join(f"{k} = :key_{k}" for k in key_of(c.table))
    at: dict[str, Any] = {f"key_{k}": v for k, v in _keyed(c).items()}
    if c.after is None:
        connection.execute(text(f"DELETE FROM {c.table} WHERE {where}"), at)
    elif c.before is None:
        names = ", ".join(c.after)
        marks = ", ".join(f":{n}" for n in c.after)
        connection.execute(text(f"INSERT INTO {c.table} ({names}) VALUES ({marks})"), c.after)
    else:
        sets = ", ".join(f"{n} = :{n}" for n in c.after)
        connection.execute(text(f"UPDATE {c.table} SET {sets} WHERE {where}"), {**c.after, **at})
