"""What a transaction changed, row by row, whoever's statement did it: read off triggers of the connection itself.

Meshes are kept by their content and never taken away, and what could not be read is no edit: neither is noted.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.orm import DeclarativeBase, Session

from knollside.store.tables import Base, MeshRow, NumberRow, SetAsideRow

Values = dict[str, Any]
_NOTED = {
    t.name: t
    for t in Base.metadata.sorted_tables
    if t.name not in {r.__tablename__ for r in (MeshRow, NumberRow, SetAsideRow)}
}
_WIDEST = max(len(t.columns) for t in _NOTED.values())


@dataclass(frozen=True)
class Change:
    """One record, ``before`` and ``after`` an edit: the columns that differ, as they are stored; all of them where the
    record came (``before`` None) or went (``after`` None)."""

    table: str
    key: tuple[Any, ...]
    before: Values | None
    after: Values | None

    @property
    def reversed(self) -> Change:
        return Change(self.table, self.key, self.after, self.before)

    def of(self, row: type[DeclarativeBase]) -> bool:
        return self.table == str(row.__tablename__)

    def touches(self, other: Change) -> bool:
        """Whether both change one record in a column of both."""
        if (self.table, self.key) != (other.table, other.key):
            return False
        if None in (self.before, self.after, other.before, other.after):
            return True
        return bool(set(self.before or ()) & set(other.before or ()))


def key_of(table: str) -> tuple[str, ...]:
    """Names of the columns that tell a table's rows apart."""
    return tuple(c.name for c in _NOTED[table].primary_key.columns)


def watch(connection: Connection) -> None:
    """Have the connection note what is changed from now on, and nothing from before."""
    if connection.info.get("watched"):
        connection.exec_driver_sql("DELETE FROM noted")
        return
    slots = ", ".join(f"{when}{k}" for when in "on" for k in range(_WIDEST))
    run = connection.exec_driver_sql
    run(f"CREATE TEMP TABLE noted (at INTEGER PRIMARY KEY, kind, had, has, {slots})")
    for name, table in _NOTED.items():
        columns = [c.name for c in table.columns]
        for act, had, has in (("INSERT", 0, 1), ("UPDATE", 1, 1), ("DELETE", 1, 0)):
            into, values = [], []
            for when, there, side in (("o", had, "old"), ("n", has, "new")):
                if there:
                    into += [f"{when}{k}" for k in range(len(columns))]
                    values += [f"{side}.{c}" for c in columns]
            run(
                f"CREATE TEMP TRIGGER note_{act}_{name} AFTER {act} ON main.{name} BEGIN INSERT INTO noted "
                f"(kind, had, has, {', '.join(into)}) VALUES ('{name}', {had}, {has}, {', '.join(values)}); END"
            )
    connection.info["watched"] = True


def noted(session: Session) -> tuple[Change, ...]:
    """What the transaction changed so far, each record once, in the order in which they were first touched."""
    session.flush()
    told = session.connection().exec_driver_sql("SELECT * FROM noted ORDER BY at").all()
    first: dict[tuple[str, tuple[Any, ...]], Values | None] = {}
    last: dict[tuple[str, tuple[Any, ...]], Values | None] = {}
    for _, kind, had, has, *slots in told:
        columns = [c.name for c in _NOTED[kind].columns]
        old = dict(zip(columns, slots, strict=False)) if had else None
        new = dict(zip(columns, slots[_WIDEST:], strict=False)) if has else None
        at = kind, tuple((old or new or {})[c] for c in key_of(kind))
        first.setdefault(at, old)
        last[at] = new
    made = (_narrowed(*at, was, last[at]) for at, was in first.items())
    return tuple(c for c in made if c.before != c.after)


def _narrowed(table: str, key: tuple[Any, ...], before: Values | None, after: Values | None) -> Change:
    if before is None or after is None:
        return Change(table, key, before, after)
    other = [c for c, v in before.items() if after[c] != v or type(after[c]) is not type(v)]
    return Change(table, key, {c: before[c] for c in other}, {c: after[c] for c in other})
