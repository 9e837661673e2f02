"""Numbers with units as artists type them: "18 cm", "7 in", "1/3", "4.2 kPa".  SI inside."""

import math
import re
from functools import cache

import pint

from rubberquince.errors import ValueTextError

# Only what artists type: reading pint's whole list takes half a second at every start.
_DEFINITIONS = """
    milli- = 1e-3 = m-
    centi- = 1e-2 = c-
    deci- = 1e-1 = d-
    micro- = 1e-6 = µ-
    kilo- = 1e3 = k-
    mega- = 1e6 = M-
    giga- = 1e9 = G-
    meter = [length] = m = metre
    kilogram = [mass] = kg
    second = [time] = s = sec
    gram = 1e-3 * kilogram = g
    tonne = 1e3 * kilogram = t
    pound = 0.45359237 * kilogram = lb
    ounce = pound / 16 = oz
    inch = 0.0254 * meter = in
    foot = 12 * inch = ft = feet
    yard = 3 * foot = yd
    minute = 60 * second = min
    newton = kilogram * meter / second ** 2 = N
    pascal = newton / meter ** 2 = Pa
    bar = 1e5 * pascal
    psi = 4.4482216152605 * newton / inch ** 2
    liter = 1e-3 * meter ** 3 = l = L = litre
    radian = [] = rad
    degree = 3.141592653589793 / 180 * radian = deg
    percent_ = 0.01
    frame = [] = _ = frames
""".strip().splitlines()
FAMILIES = (("Pa", "kPa", "MPa", "GPa"), ("mm", "cm", "m", "km"))
LEAST_SHOWN = 5e-7         # of the unit: below, it is rounding
_registry: pint.UnitRegistry = pint.UnitRegistry(None)
for _line in _DEFINITIONS:
    _registry.define(_line.strip())
_GROUPED = r"[1-9]\d{0,2}(?:,\d{3})+(?:\.\d*)?|[1-9]\d{0,2}(?:[   ]\d{3})+(?:[.,]\d*)?"     # 1,200.5 and 1 200,5
_DECIMAL = r"\d+[.,]?\d*|[.,]\d+"
_NUMBER = rf"[+-]?(?:{_GROUPED}|{_DECIMAL})(?:[eE][+-]?\d+)?"
_PATTERN = re.compile(rf"^\s*({_NUMBER})(?:\s*/\s*(\d+[.,]?\d*))?\s*([^\d\s.,][^\s]*(?:\s?[²³/*][^\s]*)?)?\s*$")
_THOUSANDS = re.compile(r"[1-9]\d{0,2}(?:,\d{3})+(?!\d)")
_SHORT = {'"': "inch", "'": "foot", "°": "degree", "%": "percent_"}
_WRITTEN = {name.lower(): name for name in (        # how units are written, whatever their case
    "mm", "cm", "dm", "m", "km", "in", "ft", "yd", "kg", "g", "t", "lb", "oz", "s", "ms", "min", "N", "kN", "Pa", "kPa",
    "MPa", "GPa", "hPa", "bar", "psi", "l", "ml", "deg", "rad")}


def parse(text: str, unit: str) -> float:
    """The SI value of ``text``; a bare number is in ``unit``.  Raises ValueTextError with one sentence."""
    match = _PATTERN.match(text)
    if not match:
        raise ValueTextError(f"“{_short(text)}” is not a number; type for instance {_example(unit)}.")
    number = _number(match[1])
    if match[2]:
        divisor = float(match[2].replace(",", "."))
        if divisor == 0.0:
            raise ValueTextError(f"“{_short(text)}” divides by zero.")
        number /= divisor
    given = match[3] or unit
    try:
        value = float(_registry.Quantity(number, _unit(given)).to(_unit(unit)).magnitude * _factor(unit))
    except (pint.PintError, ValueError, TypeError, AttributeError, AssertionError, KeyError):
        raise ValueTextError(
            f"“{_short(given)}” is not a unit for this; type for instance {_example(unit)}.") from None
    if not math.isfinite(value):
        raise ValueTextError(f"“{_short(text)}” is too large a number.")
    return value


def show(value: float, unit: str) -> str:
    """``value`` (SI) in ``unit``, with as many digits as an artist can use."""
    if not unit:
        return _digits(value)
    gap = "" if unit == "°" else " "
    return f"{_digits(value / _factor(unit))}{gap}{unit}"


def tidy(value: float, unit: str) -> str:
    """``value`` (SI) in whatever unit of the same family as ``unit`` shows it shortest."""
    family = next((units for units in FAMILIES if unit in units), (unit,))
    texts = [text for one in family if (text := show(value, one)).split()[0] != "0"]
    return min(texts, key=lambda text: (len(text.split()[0].replace(".", "")), text), default=show(value, unit))


@cache
def _factor(unit: str) -> float:
    """How many SI units one ``unit`` is."""
    if unit in {"", "°"}:                     # angles are kept in degrees
        return 1.0
    return float(_registry.Quantity(1.0, _unit(unit)).to_base_units().magnitude)


def _number(text: str) -> float:
    """A comma before three digits groups thousands, as in 1,200; any other one is a decimal comma."""
    text = re.sub(r"[   ]", "", text)
    text = text.replace(",", "") if _THOUSANDS.match(text.lstrip("+-")) else text.replace(",", ".")
    return float(text)


def _unit(text: str) -> str:
    """A unit as pint knows it: powers written any way, letters in either case."""
    text = text.replace("²", "2").replace("³", "3").replace("·", "*")
    text = re.sub(r"(?<=[a-zA-Z])(?:\^|\*\*)?([23])(?!\d)", r"**\1", text)
    return re.sub(r"[A-Za-z]+", lambda word: _WRITTEN.get(word[0].lower(), word[0]), _SHORT.get(text, text))


def _digits(value: float) -> str:
    if abs(value) < LEAST_SHOWN or not math.isfinite(value):
        return "0" if math.isfinite(value) else str(value)
    places = max(0, 3 - math.floor(math.log10(abs(value))) - 1)
    text = f"{value:.{min(places, 9)}f}"
    text = text.rstrip("0").rstrip(".") if "." in text else text
    return "0" if text == "-0" else text


def _example(unit: str) -> str:
    return f"“18 {unit}”" if unit else "“0.5”"


def _short(text: str) -> str:
    return text if len(text) <= 24 else text[:23] + "…"
