"""The profiles of the stand-ins: one file for each simulated unit."""

from __future__ import annotations

from importlib import resources

from leitwerk.errors import FileProblem, SetupError
from leitwerk.findings import Findings
from leitwerk.parsing.yaml_text import Map, parse_yaml
from leitwerk.standins.firmware import Profile


def known_profiles() -> list[str]:
    """The models of which there is a stand-in."""
    folder = resources.files("leitwerk.standins") / "profiles"
    return sorted(
        f.name.removesuffix(".yaml") for f in folder.iterdir() if f.name.endswith(".yaml")
    )


def find_profile(model: str) -> Profile:
    """The shipped profile of a model.

    Raises
    ------
    FileProblem
        There is no stand-in of that model.

    """
    if model not in known_profiles():
        raise FileProblem(
            f"there is no stand-in for the model {model!r}",
            remedy=f"stand-ins: {', '.join(known_profiles())}",
        )
    file = resources.files("leitwerk.standins") / "profiles" / f"{model}.yaml"
    findings = Findings(file.name)
    root = parse_yaml(file.read_bytes(), findings)
    if root is None:
        raise SetupError(file.name, findings.sorted())
    return Profile(
        model=str(root["model"]),
        serial=str(root["serial"]),
        firmware=str(root["firmware"]),
        passwords=_texts(root, "passwords"),
        factory=_texts(root, "factory"),
        wiring=_texts(root, "wiring"),
        kind=str(root.get("kind", "logger")),
        unit=str(root.get("unit", "1")),
    )


def _texts(root: Map, key: str) -> dict[str, str]:
    entries = root.get(key)
    return {name: str(text) for name, text in entries.items()} if isinstance(entries, Map) else {}
