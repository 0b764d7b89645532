"""Hardware as people write it: "1/4-20", "M5x16", "rod 1/4 in", "M 5", "608zz", turned into the catalogue's names."""

from __future__ import annotations

import re

from knollside.core.fit.standards import FINE_PITCH, INCH, ISO_228, NPT_PIPE, UNF

_COARSE = {"4-40": "#4", "6-32": "#6", "8-32": "#8", "10-24": "#10", "1/4-20": "1/4 in", "5/16-18": "5/16 in"}
_COARSE |= {"3/8-16": "3/8 in", "7/16-14": "7/16 in", "1/2-13": "1/2 in", "0-80": "#0", "1-64": "#1", "2-56": "#2"}
_COARSE |= {"3-48": "#3", "5-40": "#5"}
_METRIC = re.compile(r"^m\s*(\d+(?:\.\d+)?)(?:\s*x\s*(\d+(?:\.\d+)?))?(?:\s*x\s*\d+(?:\.\d+)?)?\s*(?:mm)?$")
_UNIFIED = re.compile(r"^#?(\d+(?:/\d+)?)\s*(?:in|\")?\s*-\s*(\d+)(?:\s*x\s*.*)?$")
_BEARING = re.compile(r"^(?:bearing\s*)?((?:mr)?\d{2,4})\s*-?\s*(?:2?zz|2?rs1?|2z|rz)?(?:\s*bearing)?$")
_WHOLE = re.compile(r"^(\d+)\s+(\d+)/(\d+)$|^(\d+)/(\d+)$|^(\d+(?:\.\d+)?)$")
_THINGS = {"nut", "washer", "head", "insert", "magnet", "rod", "tube", "pin", "bolt", "screw", "shaft", "pipe", "cane"}
_SAME = {"bolt": "", "screw": "", "shaft": "rod", "pin": "rod", "cane": "rod", "pipe": "tube"}


def read_as(text: str, known: frozenset[str]) -> str | None:
    """The name in the catalogue (``known``) that was meant, or a plain size like 'rod 6.35 mm'; None for neither."""
    clean = re.sub(r"\s+", " ", text.strip().lower().replace(",", ".").replace("×", "x").replace("″", '"'))
    for listed in known:
        if listed.lower() == clean:
            return listed
    words = clean.split(" ")
    thing = next((w for w in words if w.rstrip("s") in _THINGS), "")
    rest = " ".join(w for w in words if w != thing).strip()
    thing = thing.rstrip("s")
    kind = _SAME.get(thing, thing)
    found: str | None = _thread(rest) or _pipe(rest) or _bushing(rest, known)
    if found is None and kind in ("", "bearing"):
        bearing = _BEARING.match(clean)
        name = f"bearing {bearing[1].upper()}" if bearing is not None else ""
        if name in known:
            return name
    if found is not None:
        named = f"{kind} {found}".strip()
        return named if named in known else (found if not kind and found in known else None)
    size = _size(rest.split("x")[0].strip() if kind == "magnet" else rest)
    if size is None:
        return None
    plain = f"{kind or 'rod'} {size:g} mm"
    return plain


def _thread(text: str) -> str | None:
    metric = _METRIC.match(text)
    if metric is not None:
        name = f"M{float(metric[1]):g}"
        # A second number that is a fine pitch of this thread is one; any other is the length.
        fine = f"{name}x{float(metric[2]):g}" if metric[2] else ""
        return fine if fine in FINE_PITCH else name
    unified = _UNIFIED.match(text)
    if unified is not None:
        coarse = _COARSE.get(f"{unified[1]}-{unified[2]}")
        if coarse is not None:
            return coarse
        of = f"{unified[1]} in" if "/" in unified[1] else f"#{unified[1]}"
        return f"{of.removesuffix(' in')}-{unified[2]}" if UNF.get(of) == int(unified[2]) else None
    if re.fullmatch(r"#\d+", text):
        return text
    return None


def _pipe(text: str) -> str | None:
    for names in (ISO_228, NPT_PIPE):
        for name in names:
            if name.lower().replace(" ", "") == text.replace(" ", "").replace('"', ""):
                return name
    return None


def _bushing(text: str, known: frozenset[str]) -> str | None:
    return next((n for n in known if n.startswith("LM") and n.lower() == text.replace(" ", "")), None)


def _size(text: str) -> float | None:
    """A size in mm; inches where they are said or it is a fraction."""
    inch = bool(re.search(r"(in|inch|\")$", text))
    number = re.sub(r"\s*(mm|inch|in|\")$", "", text).strip()
    match = _WHOLE.match(number)
    if match is None:
        return None
    if match[6] is not None:
        value = float(match[6])
    else:
        top, bottom = (int(match[2]), int(match[3])) if match[1] else (int(match[4]), int(match[5]))
        if not bottom:
            return None
        value, inch = (int(match[1]) if match[1] else 0) + top / bottom, True
    return round(value * INCH, 4) if inch else value
