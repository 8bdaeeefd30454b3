"""Print the lowest versions that pyproject.toml allows, as constraints for pip: ``make lowest``."""

import re
import tomllib
from pathlib import Path

PROJECT = tomllib.loads((Path(__file__).parent.parent / "pyproject.toml").read_text("utf-8"))[
    "project"
]
# Of tools that only check the code, the newest is wanted: what the lowest find says nothing of use.
TOOLS = {
    "mypy",
    "ruff",
    "pre-commit",
    "pandas-stubs",
    "scipy-stubs",
    "types-pyyaml",
    "types-pyserial",
}

for requirement in [*PROJECT["dependencies"], *PROJECT["optional-dependencies"]["dev"]]:
    bound = re.fullmatch(r"([A-Za-z0-9_.-]+)>=([0-9.]+).*", requirement)
    if bound is None:
        raise SystemExit(f"{requirement}: no lower bound")
    name, version = bound.groups()
    if name.casefold() not in TOOLS:
        print(f"{name}=={version}")
