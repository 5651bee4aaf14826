"""Numbers and strangers' words as text that people may read. Nothing here is ever sent to a client."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Mapping


def printable(text: str) -> str:
    """A stranger's text as a terminal may show it: control characters, ends of lines and marks that turn the direction
    of writing are written out.
    """
    return text if text.isprintable() else "".join(c if c.isprintable() else ascii(c)[1:-1] for c in text)


def printable_lines(text: str) -> str:
    """The same for text of several lines of our own."""
    return "\n".join(map(printable, text.split("\n")))


def excerpt(value: object, length: int = 60) -> str:
    """A short, printable piece of something a client sent."""
    try:
        text = ascii(value[: length + 1] if isinstance(value, (str, bytes)) else value)
    except Exception as error:  # repr of a stranger's object may do anything
        text = f"<{type(value).__name__}: {type(error).__name__}>"
    return text if len(text) <= length else text[: length - 3] + "..."


def points(value: float) -> str:
    """Return a number with three digits for people: 49.1, 1,230, 0.05; never an exponent."""
    size = abs(value)
    if size >= 999.5:
        return f"{value:,.0f}"
    return f"{value:.3g}" if size >= 0.001 or size == 0.0 else f"{value:.6f}".rstrip("0").rstrip(".")


def amount(value: float | str | None, unit: str, names: Mapping[int, str] | None = None) -> str:
    """A measured value as text, in the unit that people read it in. names : what to call entities"""
    if value is None:
        return "-"
    if isinstance(value, str):
        return printable(value)
    if math.isinf(value):
        return "unlimited"
    if unit == "entity":
        name = (names or {}).get(int(value), "")
        return f"{printable(name)} (entity {value:g})" if name else f"entity {value:g}"
    if unit == "s":
        return f"{value * 1000.0:.1f} ms"
    if unit == "rad":
        return f"{math.degrees(value):.2f} degrees"
    if unit == "deg":
        return f"{value:.1f} degrees"
    if unit in ("", "points"):
        number = f"{value:.0f}" if unit == "" and float(value).is_integer() else points(value)
    else:
        number = f"{value:.3f}".rstrip("0").rstrip(".")
    if number == "1" and unit.endswith("s") and unit.isalpha():  # one shot, two shots
        unit = unit[:-1]
    return f"{number} {unit}".rstrip()


def called(entity: int, names: Mapping[int, str] | None) -> str:
    """Return the name of an entity."""
    return printable((names or {}).get(entity) or f"entity {entity}")


def excerpt_name(name: str) -> str:
    """A client's name for something, short and printable."""
    return name if len(name) <= 40 and name.isascii() and name.isprintable() else excerpt(name)
