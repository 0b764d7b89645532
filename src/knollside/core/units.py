"""Quantities as people type them, turned into the inside units (mm, N, MPa, g, s, degrees C).

Accepted: a plain number, "5/8 in", "2.5 kgf", "12+0.2", "1 m 20 cm", with a
comma or a point. Unit names and factors come from pint; the sums are read here
because a general expression reader would also take things no length can be.
"""

from __future__ import annotations

import math
import re
from functools import lru_cache

_INSIDE = {
    "length": "mm",
    "force": "N",
    "mass": "g",
    "time": "s",
    "temperature": "degC",
    "stress": "MPa",
    "torque": "N*mm",
    "share": "",
}
_EXAMPLE = {
    "length": '12, "5/8 in", "12+0.2"',
    "force": '88.3, "9 kgf", "20 lbf"',
    "mass": '9000, "9 kg"',
    "time": '60, "2 h"',
    "temperature": '45, "113 degF"',
    "stress": '45, "45 MPa"',
    "torque": '2000, "2 N m"',
    "share": '0.3, "30 %"',
}
_ALIAS = {
    '"': "inch",
    "''": "inch",
    "in": "inch",
    "'": "foot",
    "kg": "kg",
    "°C": "degC",
    "C": "degC",
    "°F": "degF",
    "F": "degF",
    "%": "percent",
    "kp": "kgf",
    "h": "hour",
    "lb": "lb",
    "Nm": "N*m",
    "Nmm": "N*mm",
    "Ncm": "N*cm",
    "kgfcm": "kgf*cm",
    "lbfin": "lbf*inch",
}
_TERM = re.compile(
    r"""\s*(?P<sign>[+-]?)\s*
        (?P<num>\d+(?:\.\d*)?(?:[eE][+-]?\d+)?|\.\d+(?:[eE][+-]?\d+)?)
        (?:\s*/\s*(?P<den>\d+(?:\.\d+)?))?
        \s*(?P<unit>[A-Za-z°%'"]*)""",
    re.VERBOSE,
)
# "2 N m" and "2 N·m" are one unit, not a sum.
_TORQUE = re.compile(r"\b(N|kgf|lbf)\s*[·*.]?\s*(mm|cm|m|in)\b")


class QuantityError(ValueError):
    """A typed quantity could not be read; the text says what was wrong."""


@lru_cache(maxsize=1)
def _registry():  # type: ignore[no-untyped-def]
    # Imported late: the registry takes most of a second to build and the window should not wait.
    import pint

    return pint.UnitRegistry(autoconvert_offset_to_baseunit=True)


@lru_cache(maxsize=256)
def _factor(unit: str, kind: str) -> float:
    name = _ALIAS.get(unit, unit)
    if kind == "share":
        return {"": 1.0, "percent": 0.01}[name]
    registry = _registry()
    quantity = registry.Quantity(1.0, name)
    if kind == "force" and quantity.check("[mass]"):
        quantity = quantity * registry.Quantity(1.0, "standard_gravity")
    return float(quantity.to(_INSIDE[kind]).magnitude)


def parse(value: float | int | str, kind: str) -> float:
    """Return ``value`` in the inside unit of ``kind``.

    ``kind`` is one of length, force, mass, time, temperature, stress, torque, share.
    Numbers pass through. A mass given for a force is a hanging weight (times
    standard gravity, CGPM 1901). Raises :class:`QuantityError`.

    >>> parse("2 kg", "force"), parse("1 in", "length"), parse(5, "length")
    (19.6133, 25.4, 5.0)
    """
    if isinstance(value, bool):
        raise QuantityError("a yes or no is not a quantity")
    if isinstance(value, (int, float)):
        if not math.isfinite(value):
            raise QuantityError("not a finite number")
        return float(value)
    text = str(value).strip()
    if not text:
        raise QuantityError("nothing was entered")
    if len(text) > 60:
        raise QuantityError("too long to be a quantity")
    if text.count(",") == 1 and "." not in text:
        text = text.replace(",", ".")
    elif "," in text:
        raise QuantityError(f"'{text}' has more than one decimal mark")
    if kind == "torque":
        text = _TORQUE.sub(r"\1\2", text)
    terms = _terms(text, kind)
    if kind == "temperature":
        return _temperature(terms)
    last = next((unit for _, unit in reversed(terms) if unit), "")
    total = 0.0
    for number, unit in terms:
        unit = unit or last  # "12+0.2 mm": the unit at the end serves the whole sum
        if not unit:
            total += number
            continue
        try:
            total += number * (1.0 if unit == _INSIDE[kind] else _factor(unit, kind))
        except Exception:
            raise QuantityError(f"'{unit}' is not a unit of {kind}; try {_EXAMPLE[kind]}") from None
    if not math.isfinite(total):
        raise QuantityError("not a finite number")
    return total


def _terms(text: str, kind: str) -> list[tuple[float, str]]:
    """The signed numbers of a sum, each with the unit written after it, or none."""
    terms: list[tuple[float, str]] = []
    position = 0
    while position < len(text):
        match = _TERM.match(text, position)
        if match is None:
            raise QuantityError(f"cannot read '{text[position:].strip()}'; try {_EXAMPLE[kind]}")
        if terms and not match["sign"] and not terms[-1][1]:
            raise QuantityError(f"'{text}' is two numbers; write a + or a unit between them")
        number = float(match["num"])
        if match["den"]:
            if float(match["den"]) == 0:
                raise QuantityError("division by zero")
            number /= float(match["den"])
        terms.append((-number if match["sign"] == "-" else number, match["unit"]))
        position = match.end()
        if not text[position:].strip():
            break
    return terms


def _temperature(terms: list[tuple[float, str]]) -> float:
    """One temperature, in degrees Celsius."""
    if len(terms) != 1:
        raise QuantityError("one temperature, please, not a sum")
    number, unit = terms[0]
    name = _ALIAS.get(unit, unit) or "degC"
    if name not in ("degC", "degF", "K", "kelvin"):
        raise QuantityError(f"'{unit}' is not a temperature unit")
    return float(_registry().Quantity(number, name).to("degC").magnitude)


def two_digits(value: float) -> str:
    """A number of which no more than two digits are known.

    >>> two_digits(338.0), two_digits(33.8), two_digits(3.38)
    ('340', '34', '3.4')
    """
    return f"{float(f'{value:.2g}'):.0f}" if abs(value) >= 9.95 else f"{value:.2g}"


def round_to_doubt(value: float, half_range: float) -> str:
    """Write ``value`` with no more decimals than its doubt supports."""
    if not math.isfinite(value):
        return "none"
    if half_range <= 0 or not math.isfinite(half_range):
        return f"{value:.1f}"
    decimals = max(0, min(3, 1 - math.floor(math.log10(2 * half_range))))
    return f"{value:.{decimals}f}"
