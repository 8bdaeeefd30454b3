"""Write ``src/leitwerk/parsing/unit_table.py``: the closed list of units, with numbers from pint.

``make units`` runs this. The table is what the library uses; pint is needed here and in the tests
only. A new unit is one row below: how it is written, other spellings, what pint calls it, and the
prefixes that engineers put before it.
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import pint

TARGET = Path(__file__).parent.parent / "src" / "leitwerk" / "parsing" / "unit_table.py"
PREFIXES = {
    "p": "pico", "n": "nano", "µ": "micro", "m": "milli", "c": "centi", "d": "deci", "": "",
    "h": "hecto", "k": "kilo", "M": "mega", "G": "giga", "T": "tera",
}  # fmt: skip
MICRO = ("µ", "μ", "u")  # micro sign, Greek mu, and what a keyboard has

# The dimensions of pint's base units, in words; each further one is kept apart on purpose.
BASES = {
    "[length]": "length", "[mass]": "mass", "[time]": "time", "[current]": "current",
    "[temperature]": "temperature", "[substance]": "amount of substance",
    "[luminosity]": "luminous intensity",
}  # fmt: skip


class Row(NamedTuple):
    """A unit: its symbol, further spellings, pint's name, prefixes, and a dimension of its own."""

    symbol: str
    also: str
    pint: str
    prefixes: str = "-"
    apart: str = ""


# "-" among the prefixes is none. ``apart`` is a dimension beside what pint says: a reactive power is
# no power, an angle no ratio, a dose no energy by mass, and none of them is converted to the other.
ROWS = (
    # SI Brochure, 9th edition: base units, derived units, units accepted for use with the SI
    Row("m", "", "meter", "n µ m c d - k"),
    Row("g", "", "gram", "n µ m - k"),
    Row("t", "", "metric_ton"),
    Row("s", "sec", "second", "n µ m -"),
    Row("min", "", "minute"),
    Row("h", "hr", "hour"),
    Row("d", "", "day"),
    Row("A", "", "ampere", "p n µ m - k"),
    Row("K", "", "kelvin", "m -"),
    Row("°C", "degC ℃", "degree_Celsius"),
    Row("°F", "degF ℉", "degree_Fahrenheit"),
    Row("mol", "", "mole", "n µ m - k"),
    Row("cd", "", "candela", "m - k"),
    Row("Hz", "", "hertz", "m - k M G"),
    Row("N", "", "newton", "µ m - k M"),
    Row("Pa", "", "pascal", "µ m - h k M G"),
    Row("J", "", "joule", "µ m - k M G"),
    Row("W", "", "watt", "n µ m - k M G"),
    Row("C", "", "coulomb", "p n µ m -"),
    Row("V", "", "volt", "n µ m - k M"),
    Row("F", "", "farad", "p n µ m -"),
    Row("Ω", "\u2126 ohm Ohm", "ohm", "µ m - k M G T"),
    Row("S", "", "siemens", "n µ m -"),
    Row("Wb", "", "weber", "m -"),
    Row("T", "", "tesla", "n µ m -"),
    Row("H", "", "henry", "n µ m -"),
    Row("lm", "", "candela * radian ** 2", "- k", "solid angle"),
    Row("lx", "", "candela * radian ** 2 / meter ** 2", "m - k", "solid angle"),
    Row("Bq", "", "becquerel", "- k M G", "activity"),
    Row("Gy", "", "gray", "n µ m -", "absorbed dose"),
    Row("Sv", "", "sievert", "n µ m -", "dose equivalent"),
    Row("l", "L", "liter", "µ m c d - h"),
    Row("bar", "", "bar", "µ m -"),
    Row("rad", "", "radian", "µ m -", "angle"),
    Row("°", "deg", "degree", "-", "angle"),
    Row("rpm", "r/min U/min", "turn / minute", "-", "angle"),
    Row("ha", "", "hectare"),
    # Electrical energy and power, IEC 60050-131 and IEC 60027-1
    Row("A·h", "Ah", "ampere * hour", "m - k"),
    Row("W·h", "Wh", "watt * hour", "m - k M G"),
    Row("V·A", "VA", "volt * ampere", "m - k M", "apparent"),
    Row("V·A·h", "VAh", "volt * ampere * hour", "- k M", "apparent"),
    Row("var", "VAr", "volt * ampere", "m - k M", "reactive"),
    Row("var·h", "varh", "volt * ampere * hour", "- k M", "reactive"),
    # Written together in practice although the standard joins them by a point
    Row("N·m", "Nm", "newton * meter", "m c - k M"),
    # Ratios
    Row("%", "%RH %rH", "percent"),
    Row("‰", "", "permille"),
    Row("ppm", "", "ppm"),
    Row("ppb", "", "1e-9"),
    Row("µε", "µstrain με ustrain", "1e-6"),
    # NIST SP 811, appendix B.8
    Row("in", "", "inch"),
    Row("ft", "", "foot"),
    Row("yd", "", "yard"),
    Row("mi", "", "mile"),
    Row("mph", "", "mile / hour"),
    Row("lb", "", "pound"),
    Row("oz", "", "ounce"),
    Row("lbf", "", "force_pound"),
    Row("kgf", "kp", "force_kilogram"),
    Row("psi", "", "psi", "- k"),
    Row("atm", "", "atmosphere"),
    Row("Torr", "", "torr", "m -"),
    Row("mmHg", "", "millimeter_Hg"),
    Row("inHg", "", "inch_Hg"),
    Row("mmH₂O", "mmH2O mmWS", "millimeter * 1000 * kilogram / meter ** 3 * standard_gravity"),
    Row("mH₂O", "mH2O mWS", "meter * 1000 * kilogram / meter ** 3 * standard_gravity"),
    Row("inH₂O", "inH2O", "inch * 1000 * kilogram / meter ** 3 * standard_gravity"),
    Row("cal", "", "calorie", "- k"),
    Row("Btu", "", "british_thermal_unit"),
    Row("G", "", "1e-4 * tesla", "m -"),  # gauss: pint has it in the CGS dimensions
    Row("P", "", "poise", "c -"),
    Row("St", "", "stokes", "c -"),
    Row("gₙ", "gn g0", "standard_gravity", "m -"),
    # Scales of their own: no number in one of them is a number in any other unit
    Row("dB", "", "1", "-", "level"),
    Row("pH", "", "1", "-", "pH"),
    Row("NTU", "FNU", "1", "-", "turbidity"),
    Row("bit", "", "1", "- k M", "information"),
    Row("B", "", "8", "- k M G", "information"),
    # Noise densities, such as nV/√Hz
    Row("√Hz", "", "hertz ** 0.5"),
    Row("1", "imp pulse pulses", "1"),
)

# How people call a dimension, by a unit that has it; one that is not named here is written out.
DIMENSIONS = {
    "V": "voltage", "Ω": "resistance", "W": "power", "J": "energy", "Hz": "frequency",
    "Pa": "pressure", "N": "force", "F": "capacitance", "H": "inductance", "S": "conductance",
    "C": "charge", "T": "magnetic flux density", "Wb": "magnetic flux", "%": "ratio",
    "lx": "illuminance", "rpm": "rotational speed", "P": "viscosity", "l": "volume",
    "m/s": "speed", "m/s^2": "acceleration", "m^2": "area", "l/s": "volume flow",
    "kg/s": "mass flow", "kg/m^3": "density", "S/m": "conductivity", "W/m^2": "irradiance",
    "var": "reactive power", "V·A": "apparent power", "var·h": "reactive energy",
    "V·A·h": "apparent energy", "lm": "luminous flux", "cd/m^2": "luminance", "Bq": "activity",
    "Gy": "absorbed dose", "Sv": "dose equivalent", "Sv/h": "dose rate", "V/√Hz": "noise density",
    "mol/l": "amount concentration", "1/m": "wave number", "K/s": "rate of temperature",
}  # fmt: skip


def spellings(row: Row) -> Iterator[tuple[str, list[str], float]]:
    """Each symbol of a row with its prefix, all its spellings, and what the prefix stands for."""
    registry = pint.application_registry
    for prefix in row.prefixes.split():
        mark = prefix.strip("-")
        size = registry.Quantity(1.0, f"{PREFIXES[mark]}meter").to("meter").magnitude
        marks = MICRO if mark == "µ" else (mark,)
        words = [row.symbol, *row.also.split()]
        written = [m + word for m in marks for word in words]
        yield mark + row.symbol, written, size


def figures(row: Row, size: float) -> tuple[float, float, dict[str, float]]:
    """Factor and offset to SI base units, and the powers of the base dimensions."""
    registry = pint.application_registry
    if row.pint.startswith("degree_"):
        zero, one = (registry.Quantity(x, row.pint).to("kelvin").magnitude for x in (0.0, 1.0))
        # 459.67 °F below 0 °F; the difference of two rounded numbers is worse than the definition.
        return (5 / 9 if "Fahr" in row.pint else 1.0), zero, {"temperature": 1.0} if one else {}
    quantity = registry.Quantity(1.0, "") * registry.parse_expression(row.pint)
    powers = {BASES[str(k)]: float(str(v)) for k, v in quantity.dimensionality.items()}
    magnitude = size * quantity.m_as(_si(quantity))
    if row.apart:
        powers[row.apart] = powers.get(row.apart, 0.0) + 1.0
    return float(f"{magnitude:.15g}"), 0.0, powers


def _si(quantity: pint.Quantity[float]) -> str:
    names = {"[length]": "meter", "[mass]": "kilogram", "[time]": "second", "[current]": "ampere",
             "[temperature]": "kelvin", "[substance]": "mole", "[luminosity]": "candela"}  # fmt: skip
    parts = [f"{names[str(k)]} ** {v}" for k, v in quantity.dimensionality.items()]
    return " * ".join(parts) or "dimensionless"


def table() -> str:
    """The module's text."""
    lines = [
        '"""The closed list of units. Written by tools/units.py (make units); do not edit."""',
        "",
        "from __future__ import annotations",
        "",
        "# Symbol as Leitwerk writes it -> factor and offset to SI base units, powers of dimensions.",
        "UNITS: dict[str, tuple[float, float, tuple[tuple[str, float], ...]]] = {",
    ]
    also: list[tuple[str, str]] = []
    for row in ROWS:
        for symbol, written, size in spellings(row):
            factor, offset, powers = figures(row, size)
            items = tuple(sorted((k, v) for k, v in powers.items() if v))
            lines.append(f"    {symbol!r}: ({factor!r}, {offset!r}, {items!r}),")
            also += [(w, symbol) for w in written if w != symbol]
    lines += ["}", "", "# Other spellings -> the symbol.", "SPELLINGS = {"]
    lines += [f"    {w!r}: {symbol!r}," for w, symbol in also]
    lines += ["}", "", "# A unit of a dimension -> how people call it.", "DIMENSIONS = {"]
    lines += [f"    {unit!r}: {name!r}," for unit, name in DIMENSIONS.items()]
    lines += ["}", ""]
    return "\n".join(lines)


if __name__ == "__main__":
    TARGET.write_text(table(), "utf-8")
    ruff = Path(sys.executable).with_name("ruff")
    subprocess.run([ruff, "format", "--quiet", TARGET], check=True)
