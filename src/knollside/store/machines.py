"""Printers and spools of the workshop, and a person's own values of materials."""

from __future__ import annotations

from sqlalchemy import select

from knollside.core.material.own import OwnCard
from knollside.core.model import PrinterFacts
from knollside.store.ledger import Ledger, seal_of
from knollside.store.records import Spool
from knollside.store.tables import OwnCardRow, PrinterRow, SpoolRow


class Machines:
    """Every method that changes something is one transaction, or part of the one it is called in."""

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger

    def add_printer(self, facts: PrinterFacts, printer_id: int | None = None) -> int:
        body = facts.model_dump_json()
        with self._ledger.edit() as s:
            number = printer_id or self._ledger.number(PrinterRow.id)
            s.add(PrinterRow(id=number, name=facts.name, facts=body, seal=seal_of(body)))
            s.flush()
            return number

    def put_printer(self, printer_id: int, facts: PrinterFacts) -> None:
        body = facts.model_dump_json()
        with self._ledger.edit() as s:
            row = s.get(PrinterRow, printer_id)
            if row is not None:
                row.name, row.facts, row.seal = facts.name, body, seal_of(body)

    def printers(self) -> dict[int, PrinterFacts]:
        """Printers by number; one whose facts cannot be read is set aside and stands with common ones."""
        with self._ledger.read() as s:
            rows = [(r.id, r.name, r.facts, r.seal) for r in s.scalars(select(PrinterRow).order_by(PrinterRow.id))]
        out = {}
        for number, name, body, seal in rows:
            made = self._ledger.tried(f"The printer {name}", body, seal, PrinterFacts.model_validate_json)
            out[number] = made if made is not None else PrinterFacts(name=(name or f"Printer {number}")[:60])
        return out

    def add_spool(self, name: str, material: str, grams: float, dry: bool, spool_id: int | None = None) -> int:
        with self._ledger.edit() as s:
            number = spool_id or self._ledger.number(SpoolRow.id)
            s.add(SpoolRow(id=number, name=name, material=material, grams_left=grams, dry=dry))
            s.flush()
            return number

    def put_spool(self, spool: Spool) -> None:
        with self._ledger.edit() as s:
            row = s.get(SpoolRow, spool.id)
            if row is not None:
                row.name, row.material, row.grams_left, row.dry = (
                    spool.name,
                    spool.material,
                    spool.grams_left,
                    spool.dry,
                )

    def spools(self) -> list[Spool]:
        with self._ledger.read() as s:
            return [
                Spool(r.id, r.name, r.material, r.grams_left or 0.0, bool(r.dry)) for r in s.scalars(select(SpoolRow))
            ]

    def own_cards(self) -> dict[str, OwnCard]:
        """A person's own values, by material."""
        with self._ledger.read() as s:
            rows = [(r.name, r.body, r.seal) for r in s.scalars(select(OwnCardRow))]
        read = {n: self._ledger.tried(f"Your values of {n}", b, k, OwnCard.model_validate_json) for n, b, k in rows}
        return {name: card for name, card in read.items() if card is not None}

    def put_own_card(self, name: str, own: OwnCard | None) -> None:
        """Keep a person's values of one material; None takes them away."""
        with self._ledger.edit() as s:
            row = s.get(OwnCardRow, name)
            if own is None:
                if row is not None:
                    s.delete(row)
                return
            body = own.model_dump_json()
            if row is None:
                s.add(OwnCardRow(name=name, body=body, seal=seal_of(body)))
            else:
                row.body, row.seal = body, seal_of(body)
