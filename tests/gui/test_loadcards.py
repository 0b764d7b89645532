"""A load as its card knows it: kinds, amounts, directions and drawings; machines as the store keeps them."""

from pathlib import Path

import pytest

from knollside.core.model import (
    GRAVITY,
    DeflectionLoad,
    ForceLoad,
    PressureLoad,
    PrinterFacts,
    Refused,
    load_of,
    turned_into,
)
from knollside.gui.steps.loadcard import AIMS, KINDS, LoadSign, words_of
from knollside.gui.theme.look import load_fonts
from knollside.store.records import Spool
from knollside.store.workshop import Workshop

PUSH = ForceLoad(feature="flat-1", force_N=(0, 30, 0))


@pytest.mark.parametrize("kind", list(KINDS.values()))
def test_a_load_turns_into_every_kind_and_back_and_keeps_its_place(kind: str) -> None:
    made = turned_into(PUSH, kind, PUSH.newtons)
    assert made.kind == kind and made.feature == "flat-1" and not made.nothing
    double = made.sized(2 * made.size)
    assert double.size == pytest.approx(2 * made.size) and double.kind == kind
    assert double.times(0.5).size == pytest.approx(made.size)
    back = turned_into(made, "force", made.newtons or 50)
    assert back.kind == "force" and back.newtons == pytest.approx(30 if kind in ("force", "bearing", "weight") else 50)
    assert load_of(made.model_dump(mode="json", exclude_defaults=True)) == made, "it survives the job file"


def test_amounts_directions_and_words() -> None:
    weight = turned_into(PUSH, "weight", 30.0)
    assert weight.weight_g == pytest.approx(30 / GRAVITY * 1000) and weight.vector[2] == pytest.approx(-30)
    assert PUSH.toward == (0, 1, 0) and ForceLoad(at=(0, 0, 0)).toward == (0, 0, -1)
    assert words_of(PUSH) == "30 N" and words_of(turned_into(PUSH, "torque", 30.0)) == "1 N m"
    assert words_of(PressureLoad(at=(0, 0, 0), pressure_MPa=0.25)) == "0.25 MPa"
    assert words_of(DeflectionLoad(at=(0, 0, 0), deflection_mm=(0, 0.6, 0.8))) == "moved 1 mm"
    for aim in AIMS.values():
        assert sum(c * c for c in aim) == 1


def test_every_kind_has_a_drawing_of_its_own(qapp) -> None:  # type: ignore[no-untyped-def]
    load_fonts()
    pictures = set()
    for kind in KINDS.values():
        sign = LoadSign(kind)
        image = sign.grab().toImage()
        pictures.add(bytes(image.constBits().asarray(image.sizeInBytes())))
        assert kind in sign.accessibleName()
    assert len(pictures) == len(KINDS)


def test_printers_and_spools_are_changed_and_kept_by_one_name(tmp_path: Path) -> None:
    shop = Workshop(tmp_path / "w.sqlite")
    first, second = (
        shop.machines.add_printer(PrinterFacts(name="One")),
        shop.machines.add_printer(PrinterFacts(name="Two")),
    )
    spool = shop.machines.add_spool("white", "PLA", 300, True)
    shop.machines.put_printer(first, PrinterFacts(name="One", bed_mm=(300, 300, 400), hard_nozzle=True))
    shop.machines.put_spool(Spool(spool, "white", "PLA", 120.5, False))
    with pytest.raises(Refused, match="taken already"):
        shop.machines.put_printer(second, PrinterFacts(name="One"))
    shop.close()
    again = Workshop(tmp_path / "w.sqlite")
    assert (
        again.machines.printers()[first].bed_mm == (300, 300, 400) and again.machines.printers()[second].name == "Two"
    )
    assert again.machines.spools() == [Spool(spool, "white", "PLA", 120.5, False)]
    again.close()
