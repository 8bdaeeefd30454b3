"""Write the pages that follow from the code: ``make pages``.

The tables in docs/guide/datasheets.md and docs/guide/computed.md, all pages of docs/reference and
docs/devices. A test holds them against the code.
"""

import ast
import importlib
import inspect
import re
from collections.abc import Iterator
from pathlib import Path

from reference_pages import (
    card_page,
    commands_page,
    device_pages,
    findings_page,
    keys_page,
    manual_page,
)

from leitwerk.datasheet.vocabulary import VOCABULARY, Without
from leitwerk.derived.functions_of_the_moment import MOMENT
from leitwerk.derived.functions_of_time import OF_TIME
from leitwerk.derived.ready_made import READY_MADE

ROOT = Path(__file__).parent.parent
DATASHEETS = ROOT / "docs" / "guide" / "datasheets.md"
COMPUTED = ROOT / "docs" / "guide" / "computed.md"
REFERENCE = ROOT / "docs" / "reference" / "python.md"
BEGIN, END = "<!-- names of points: begin -->", "<!-- names of points: end -->"
FUNCTIONS_BEGIN, FUNCTIONS_END = "<!-- functions: begin -->", "<!-- functions: end -->"
# The packages with public names, and what stands above each.
PACKAGES = {
    "leitwerk": "What one needs most: setups, devices, uploads, readings, errors.",
    "leitwerk.parsing": "Quantities, units and addresses.",
    "leitwerk.signals": "Scales and sensor curves.",
    "leitwerk.calibration": "Corrections, uncertainty, conformity, certificates.",
    "leitwerk.analysis": "Statistics of intervals, and pulses.",
    "leitwerk.power": "Three phases: phasors, wiring, powers, waveforms.",
    "leitwerk.sound": "Sampled sound: weightings, detectors, bands, levels, dose.",
    "leitwerk.lots": "Lots of units: measures, limits, shorts, capability, thresholds.",
    "leitwerk.wireless": "Wireless transmitters: telegrams, what is in the air, the one in the hand.",
    "leitwerk.alarms": "Alarm definitions, their states, bands.",
    "leitwerk.datasheet": "Device models, points, settings.",
    "leitwerk.derived": "Formulas of channels, flow in open channels, steps of a gear.",
    "leitwerk.exchange": "Lines of text between two ends.",
    "leitwerk.rules": "Rules and planned runs.",
    "leitwerk.links": "How devices are reached, and how a package adds a protocol.",
    "leitwerk.recordings": "Recordings: a store, fetching, corrections, tables of other programs.",
    "leitwerk.setup": "The setup as it is read, templates, calibrations.",
    "leitwerk.check": "What a checked setup consists of.",
}
_WITHOUT = {
    Without.REFUSED: "error",
    Without.LEITWERK: "Leitwerk does it",
    Without.PEOPLE: "is left out",
}


def vocabulary_table() -> str:
    """The names of points that Leitwerk looks for, as a table for each group."""
    lines = []
    for group in dict.fromkeys(group for group, _ in VOCABULARY):
        has_wishes = group == "settings"
        head = "| name | meaning |" + (
            " if a setup asks and a model lacks it |" if has_wishes else ""
        )
        lines += [f"**{group}**", "", head, "|---|---|" + ("---|" if has_wishes else "")]
        for known in (k for (g, _), k in VOCABULARY.items() if g == group):
            row = f"| `{known.name}` | {known.meaning} |"
            lines.append(f"{row} {_WITHOUT[known.without]} |" if has_wishes else row)
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def datasheets_page() -> str:
    """The guide's page with the table as the code has it."""
    text = DATASHEETS.read_text("utf-8")
    head, rest = text.split(BEGIN)
    return f"{head}{BEGIN}\n{vocabulary_table()}{rest[rest.index(END) :]}"


def functions_table() -> str:
    """The functions of formulas, as a table for each kind."""
    lines = []
    for title, functions in (
        ("Of the moment", MOMENT), ("Of time", OF_TIME), ("Ready-made", READY_MADE),
    ):  # fmt: skip
        lines += [f"**{title}**", "", "| function | what it gives |", "|---|---|"]
        lines += [f"| `{f.name}({f.takes})` | {f.summary} |" for f in functions.values()]
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def computed_page() -> str:
    """The guide's page with the functions as the code has them."""
    head, rest = COMPUTED.read_text("utf-8").split(FUNCTIONS_BEGIN)
    return f"{head}{FUNCTIONS_BEGIN}\n{functions_table()}{rest[rest.index(FUNCTIONS_END) :]}"


def reference_page() -> str:
    """All public names with their signatures and what they are."""
    lines = [
        "# The library, name by name",
        "",
        "The public names of the library, written by `make pages`. Everything that a public function",
        "takes or returns is public as well. `help(name)` shows parameters, units and errors.",
        "",
    ]
    for package, summary in PACKAGES.items():
        lines += [f"## {package}", "", summary, ""]
        module = importlib.import_module(package)
        for name in sorted(module.__all__, key=str.casefold):
            lines += _entry(name, getattr(module, name))
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def _entry(name: str, thing: object) -> Iterator[str]:
    if inspect.ismodule(thing):
        yield f"- `{name}`: {_summary(thing)}"
        functions = [f for _, f in inspect.getmembers(thing, inspect.isfunction)]
        for function in functions:
            if function.__module__ == thing.__name__ and not function.__name__.startswith("_"):
                shown = f"{name}.{function.__name__}"
                yield f"  - `{shown}{_signature(function)}`: {_summary(function)}"
    elif inspect.isfunction(thing):
        yield f"- `{name}{_signature(thing)}`: {_summary(thing)}"
    elif inspect.isclass(thing):
        yield f"- **`{name}`**: {_summary(thing)}"
        for member, value in list(vars(thing).items()):
            method: object = getattr(value, "__func__", value)
            if not inspect.isfunction(method) or not method.__module__.startswith("leitwerk"):
                continue
            if method.__doc__ and not member.startswith("_"):
                yield f"  - `{member}{_signature(method)}`: {_summary(method)}"
    else:
        yield f"- `{name}`"


def _signature(function: object) -> str:
    """The names of the parameters, without their types."""
    parameters = []
    seen_star = False
    for parameter in inspect.signature(function).parameters.values():  # type: ignore[arg-type]
        if parameter.name in {"self", "cls"}:
            continue
        if parameter.kind is parameter.KEYWORD_ONLY and not seen_star:
            parameters.append("*")
            seen_star = True
        star = "*" * (parameter.kind is parameter.VAR_POSITIONAL)
        star = "**" if parameter.kind is parameter.VAR_KEYWORD else star
        seen_star = seen_star or star == "*"
        has_default = parameter.default is not parameter.empty
        parameters.append(f"{star}{parameter.name}{'=…' if has_default else ''}")
    return f"({', '.join(parameters)})"


def _summary(thing: object) -> str:
    doc = inspect.getdoc(thing) or ""
    first = re.split(r"\n\n", doc)[0].replace("\n", " ")
    return first.replace("``", "`")


def public_classes() -> dict[str, str]:
    """Where each class and alias of the library is defined, by name."""
    source = ROOT / "src" / "leitwerk"
    found: dict[str, str] = {}
    for path in sorted(source.rglob("*.py")):
        module = ".".join(("leitwerk", *path.relative_to(source).with_suffix("").parts))
        for node in ast.parse(path.read_text("utf-8")).body:
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                found.setdefault(node.name, module)
            elif isinstance(node, ast.AnnAssign) and "TypeAlias" in ast.unparse(node.annotation):
                found.setdefault(ast.unparse(node.target), module)
    return found


def api_pages() -> dict[str, str]:
    """A page for each package, which the site fills in from its docstrings."""
    listed = "\n".join(PACKAGES)
    head = "# The library\n\nWhat each public name does, from its docstring. "
    head += "[All names on one page](../python.md).\n\n"
    rows = "".join(f"| [{name}]({name}.md) | {summary} |\n" for name, summary in PACKAGES.items())
    tree = f"```{{toctree}}\n:hidden:\n\n{listed}\n```\n"
    index = f"{head}| package | what is there |\n|---|---|\n{rows}\n{tree}"
    fill = "```{{eval-rst}}\n.. automodule:: {0}\n```\n"
    pages = {
        name: f"# {name}\n\n{summary}\n\n" + fill.format(name) for name, summary in PACKAGES.items()
    }
    return {"index": index, **pages}


def all_pages() -> dict[Path, str]:
    """All pages that are written as a whole, by their files."""
    folder = ROOT / "docs"
    return {
        REFERENCE: reference_page(),
        folder / "reference" / "commands.md": commands_page(),
        folder / "reference" / "card.md": card_page(),
        ROOT / "src" / "leitwerk" / "help" / "leitwerk.1": manual_page(),
        folder / "reference" / "keys.md": keys_page(),
        folder / "reference" / "findings.md": findings_page(),
        **{folder / "reference" / "api" / f"{name}.md": text for name, text in api_pages().items()},
        **{folder / "devices" / f"{name}.md": text for name, text in device_pages().items()},
    }


if __name__ == "__main__":
    DATASHEETS.write_text(datasheets_page(), encoding="utf-8")
    COMPUTED.write_text(computed_page(), encoding="utf-8")
    for path, text in all_pages().items():
        path.parent.mkdir(exist_ok=True, parents=True)
        path.write_text(text, encoding="utf-8")
