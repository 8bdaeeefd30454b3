"""The floors of the house: each module may load those below its own, never one above.

The same order stands on the architecture page; this is the one that counts.
"""

import ast
from pathlib import Path

import pytest

SRC = Path(__file__).parent.parent / "src" / "leitwerk"
# From the ground up. A folder stands for all modules in it; modules of one line may use each other.
FLOORS = [
    ["errors", "collector", "places"],
    ["findings", "units"],
    ["yamltext", "quantities", "table"],
    ["address", "identity", "reading", "signals", "conditions", "course", "formula", "alarms"],
    ["calibration", "tare", "orientation"],
    ["timing", "budget", "rules"],
    ["datasheet", "setup"],
    ["ranging", "wire"],
    ["check", "needs"],
    ["image"],
    ["program"],
    ["diagnosis", "situation"],
    ["verdicts", "explain", "adopt", "rehearsal"],
    # Above this line files, sockets and clocks are touched.
    ["project", "editing", "inventory", "passwords"],
    ["links"],
    ["transfer", "live"],
    ["runner"],
    ["page"],
    ["figures"],
    ["standins"],
    ["cli"],
    ["__main__", "__init__"],
]
PURE = {name for floor in FLOORS[:12] for name in floor} - {"collector"}
NEVER_IN_THE_CORE = {
    "socket", "serial", "asyncio", "threading", "subprocess", "pathlib", "os", "time", "tempfile",
    "pymodbus", "paho", "matplotlib", "rich", "click", "logging",
}  # fmt: skip
STANDINS_NEVER = {"transfer", "live", "runner", "links", "figures", "cli"}
MODULES = sorted(SRC.rglob("*.py"))


def home(path):
    """The name in FLOORS of a file."""
    return path.relative_to(SRC).parts[0].removesuffix(".py")


def loads(path):
    """What a file imports anywhere in it, except for type checking only."""
    tree = ast.parse(path.read_text("utf-8"))
    for node in ast.walk(tree):
        if isinstance(node, ast.If) and getattr(node.test, "id", "") == "TYPE_CHECKING":
            node.body = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path.name}: imports are written in full"
            yield node.module


@pytest.mark.parametrize("path", MODULES, ids=lambda p: str(p.relative_to(SRC)))
def test_a_module_loads_only_what_lies_below_it(path):
    level = {name: k for k, floor in enumerate(FLOORS) for name in floor}
    own = home(path)
    for name in loads(path):
        parts = name.split(".")
        if parts[0] == "leitwerk" and len(parts) > 1 and parts[1] != own:
            assert level[parts[1]] <= level[own], f"{own} may not load {name}"
            assert own != "standins" or parts[1] not in STANDINS_NEVER, f"{own} may not load {name}"
        elif own in PURE:
            assert parts[0] not in NEVER_IN_THE_CORE, f"the core may not load {name}"
        elif parts[0] in {"click", "rich"}:
            assert own in {"cli", "standins"}, f"{own} may not load {name}"


def test_the_core_opens_no_file_and_prints_nothing():
    for path in MODULES:
        if home(path) in PURE:
            calls = {
                node.func.id
                for node in ast.walk(ast.parse(path.read_text("utf-8")))
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name)
            }
            assert not calls & {"open", "print", "input", "eval", "exec", "__import__"}, path


def test_the_core_reads_no_clock():
    for path in MODULES:
        if home(path) in PURE:
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
