"""The packages and their floors: each may load those below its own, never one above, and none in a circle.

The floors stand in one place, the table of packages on the architecture page. This reads them there.
"""

import ast
import graphlib
import re

import pytest

from conftest import ROOT

SRC = ROOT / "src" / "leitwerk"
PAGE = (ROOT / "docs" / "architecture.md").read_text("utf-8")
MODULES = sorted(SRC.rglob("*.py"))
NEVER_IN_THE_CORE = {
    "socket", "serial", "asyncio", "threading", "subprocess", "pathlib", "os", "time", "tempfile",
    "importlib", "pymodbus", "paho", "matplotlib", "rich", "click", "logging",
}  # fmt: skip
STANDINS_NEVER = {"links", "devices", "transfer", "monitoring", "commissioning", "reports", "cli"}


def floors():
    """Package (or module at the root) -> its floor, and which of them are the core."""
    level, core = {}, set()
    for floor, names, mark in re.findall(
        r"^\| (\d+) \| (`[^|]+`) \|[^|]*\| *(core)? *\|$", PAGE, re.M
    ):
        for name in re.findall(r"`(\w+)`", names):
            level[name] = int(floor)
            if mark:
                core.add(name)
    return level, core


LEVEL, CORE = floors()


def home(path):
    """The package or module of a file, as the table names it."""
    return path.relative_to(SRC).parts[0].removesuffix(".py")


def dotted(path):
    """The module's full name."""
    parts = path.relative_to(SRC.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


NAMES = {dotted(path) for path in MODULES}


def loads(path, *, typing):
    """What a file imports anywhere in it; ``typing`` counts what is for type checking only, too."""
    tree = ast.parse(path.read_text("utf-8"))
    if not typing:
        for node in ast.walk(tree):
            if isinstance(node, ast.If) and getattr(node.test, "id", "") == "TYPE_CHECKING":
                node.body = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path.name}: imports are written in full"
            for alias in node.names:  # a module by its name in its package
                inner = f"{node.module}.{alias.name}"
                yield inner if inner in NAMES else node.module


def test_every_package_stands_in_the_table():
    assert {home(path) for path in MODULES} - {"__init__", "__main__"} == set(LEVEL)


@pytest.mark.parametrize("path", MODULES, ids=lambda p: str(p.relative_to(SRC)))
def test_a_module_loads_only_what_lies_below_it(path):
    own = home(path)
    if own in {"__init__", "__main__"}:
        return
    for name in loads(path, typing=True):
        parts = name.split(".")
        if parts[0] == "leitwerk" and len(parts) > 1 and parts[1] != own:
            assert LEVEL[parts[1]] < LEVEL[own], f"{own} may not load {name}"
            assert own != "standins" or parts[1] not in STANDINS_NEVER, f"{own} may not load {name}"
        elif own in CORE:
            assert parts[0] not in NEVER_IN_THE_CORE, f"the core may not load {name}"
        elif parts[0] in {"click", "rich"}:
            assert own in {"cli", "standins"}, f"{own} may not load {name}"


def test_no_circle_even_inside_a_package_or_for_type_checking():
    graph = {
        dotted(path): {n for n in loads(path, typing=True) if n in NAMES and n != dotted(path)}
        for path in MODULES
    }
    graphlib.TopologicalSorter(graph).prepare()  # raises CycleError with the circle


def test_a_package_is_never_loaded_for_the_names_it_lends():
    """Inside, a name is imported from the module that defines it; ``__init__`` is for users."""
    packages = {dotted(path) for path in MODULES if path.name == "__init__.py"} - {
        "leitwerk",
        "leitwerk.cli",
    }
    for path in MODULES:
        if home(path) not in {"__init__", "__main__"}:
            assert not packages & set(loads(path, typing=True)), path


def test_the_core_opens_no_file_and_prints_nothing():
    for path in MODULES:
        if home(path) in CORE:
            calls = {
                node.func.id
                for node in ast.walk(ast.parse(path.read_text("utf-8")))
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name)
            }
            assert not calls & {"open", "print", "input", "eval", "exec", "__import__"}, path


def test_the_core_reads_no_clock():
    for path in MODULES:
        if home(path) in CORE:
            tree = ast.parse(path.read_text("utf-8"))
            asked = {node.attr for node in ast.walk(tree) if isinstance(node, ast.Attribute)}
            assert not asked & {"now", "today", "utcnow"}, path


def test_no_code_knows_a_model_by_name():
    """As a text; in a docstring or a message to people a model may stand as an example."""
    models = {file.stem for file in (SRC / "datasheets").glob("*.yaml")}
    assert len(models) >= 8
    for path in MODULES:
        if path.relative_to(SRC).parts[0] not in {"standins", "cli"}:
            tree = ast.parse(path.read_text("utf-8"))
            texts = {n.value for n in ast.walk(tree) if isinstance(n, ast.Constant)}
            assert not models & {text for text in texts if isinstance(text, str)}, path
            assert "fichte" not in path.read_text("utf-8"), path
