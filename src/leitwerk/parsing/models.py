"""From the plain groups of a YAML file to models, with every finding on the way.

pydantic checks the structure; this module turns its errors into findings in the reader's words and
goes on after each of them, so that one look at a file says everything that is wrong with it.
"""

from __future__ import annotations

import difflib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from types import UnionType
from typing import Annotated, Any, Literal, TypeVar, Union, get_args, get_origin

from pydantic import BaseModel, ConfigDict, ValidationError, WithJsonSchema
from pydantic_core import CoreSchema
from pydantic_core.core_schema import no_info_plain_validator_function

from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.yaml_text import List, Map

_MAX_SHOWN = 60


class Model(BaseModel):
    """Base of everything that is read from a file: exact types, no further keys, no changes."""

    model_config = ConfigDict(
        frozen=True,
        strict=True,
        extra="forbid",
        allow_inf_nan=False,
        arbitrary_types_allowed=True,
        defer_build=True,  # most commands need few of them
    )


M = TypeVar("M", bound=Model)
# YAML 1.1, which many editors follow, makes a truth value of a bare yes, and of a bare on.
YesNo = Annotated[Literal["yes", "no"], WithJsonSchema({"enum": [True, False, "yes", "no"]})]
OnOff = Annotated[Literal["on", "off"], WithJsonSchema({"enum": [True, False, "on", "off"]})]


@dataclass(frozen=True, slots=True)
class _Reader:
    """Reads a value by a function of ours.

    The package's own marker for that works out a schema of the result's type, too, which nothing
    needs and which takes longer than everything else together.
    """

    kind: type | tuple[type, ...]
    parse: Callable[[object], Any]

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> CoreSchema:
        del source, handler
        kind, parse = self.kind, self.parse
        return no_info_plain_validator_function(
            lambda value: value if isinstance(value, kind) else parse(value)
        )


def reader(kind: type | tuple[type, ...], parse: Callable[[object], Any]) -> _Reader:
    """Parse what a file holds; let through what is already a value (no file can hold one)."""
    return _Reader(kind, parse)


def text_of(value: object, valid: str) -> str:
    """The text that a file holds at a key.

    Raises
    ------
    QuantityError
        It is empty, or a group or list.

    """
    if isinstance(value, str) and value:
        return value
    raise QuantityError(f"{shown(value)} stands where {valid} is wanted", valid=valid)


# What pydantic's kinds of problem mean for the author of a setup.
_WANTED = {
    "string_type": "a text",
    "string_too_short": "a text that is not empty",
    "string_too_long": "a text of at most 200 characters",
    "model_type": "a group of keys, one 'key: value' line each",
    "list_type": "a list, such as [a, b]",
    "dict_type": "a group of keys, one 'key: value' line each",
    "too_short": "at least one entry",
}


def validate(
    model: type[M],
    raw: dict[str, Any],
    path: KeyPath,
    findings: Findings,
    stand_ins: dict[str, Any] | None = None,
) -> M | None:
    """The model that ``raw`` holds, with every finding on the way, not only the first.

    An unknown key, or a key with a bad value, is reported and left out, and the rest tried again.
    ``stand_ins`` fill required keys that are missing or bad, so that checking can go on; the error
    is reported all the same. None when even that is not enough.
    """
    fields = model.__pydantic_fields__
    clean = dict(raw)
    if not clean.keys() <= fields.keys():
        for key in [key for key in clean if key not in fields]:
            del clean[key]
            _report_unknown(key, list(fields), path, findings)
    for _ in range(len(fields) + 1):
        try:
            return model.model_validate(clean)
        except ValidationError as error:
            missing = _take_out(model, error, raw, clean, path, findings)
        filled = {key: value for key, value in (stand_ins or {}).items() if key in missing}
        if len(filled) < len(missing):
            return None
        clean |= filled
    return None


def _take_out(
    model: type[Model],
    error: ValidationError,
    raw: dict[str, Any],
    clean: dict[str, Any],
    path: KeyPath,
    findings: Findings,
) -> set[str]:
    """Report each problem, take bad values out of ``clean``, return the required keys missing."""
    missing, bad, told = set(), set(), set()
    problems = error.errors(include_url=False)
    # A key that is not known may be meant for one that is missing.
    for problem in sorted(problems, key=lambda one: one["type"] != "extra_forbidden"):
        loc = problem["loc"]
        key = str(loc[0])
        if problem["type"] == "missing" and len(loc) == 1:
            missing.add(key)
            if key not in raw and (*path, key) not in findings.meant:
                remedy = f"add a line '{key}: …'"
                message = f"the key {key!r} is missing"
                findings.error("missing-key", path, message, at_key=True, remedy=remedy)
        elif key in clean:
            bad.add(key)
            inside = _within(clean, loc)
            if inside not in told:  # a value of several kinds has a problem for each
                told.add(inside)
                _report_inside(model, problem, (*path, *inside), findings)
    for key in bad:
        del clean[key]
    return missing


def _within(raw: Any, loc: Sequence[str | int]) -> KeyPath:
    """The part of a problem's place that is there in the file."""
    found: list[str] = []
    for part in loc:
        inside: Any = dict(enumerate(raw)) if isinstance(raw, list) else raw
        if not isinstance(inside, dict) or part not in inside:
            break
        raw = inside[part]
        found.append(str(part))
    return tuple(found)


def _report_inside(model: type[Model], problem: Any, path: KeyPath, findings: Findings) -> None:
    """A problem in a group of keys within: a key that is not known or missing, or a bad value."""
    loc = problem["loc"]
    if problem["type"] == "extra_forbidden" and len(loc) > 1:
        _report_unknown(str(loc[-1]), _keys_at(model, loc[:-1]), path[:-1], findings)
    elif problem["type"] == "missing":
        key = str(loc[-1])
        if (*path, key) not in findings.meant:
            remedy = f"add '{key}: …' to it"
            message = f"{path[-1]}: the key {key!r} is missing"
            findings.error("missing-key", path, message, at_key=True, remedy=remedy)
    else:
        _report_bad_value(problem, path, findings)


def _keys_at(model: Any, loc: Sequence[str | int]) -> list[str]:
    """The keys of the model at a place within another one; none where it is not known."""
    kind: Any = model
    for part in loc:
        if isinstance(kind, type) and issubclass(kind, BaseModel):
            field = kind.__pydantic_fields__.get(str(part))
            kind = None if field is None else _plain_kind(field.annotation)
        else:
            inside = get_args(kind)
            kind = _plain_kind(inside[-1]) if inside else None
    if isinstance(kind, type) and issubclass(kind, BaseModel):
        return list(kind.__pydantic_fields__)
    return []


def _plain_kind(annotation: Any) -> Any:
    """A type without None beside it, and without what is annotated."""
    if get_origin(annotation) in {Union, UnionType}:
        annotation = next((a for a in get_args(annotation) if a is not type(None)), None)
    return get_args(annotation)[0] if get_origin(annotation) is Annotated else annotation


def _report_unknown(key: str, known: list[str], path: KeyPath, findings: Findings) -> None:
    near = difflib.get_close_matches(key[:_MAX_SHOWN].lower(), known, n=1, cutoff=0.5)
    if near:
        findings.meant.add((*path, near[0]))
    findings.error(
        "unknown-key",
        (*path, key),
        f"the key {key[:_MAX_SHOWN]!r} is not known here",
        at_key=True,
        valid=", ".join(known),
        remedy=f"did you mean {near[0]!r}?" if near else "remove it",
    )


def _report_bad_value(problem: Any, path: KeyPath, findings: Findings) -> None:
    cause = problem.get("ctx", {}).get("error")
    if isinstance(cause, QuantityError):
        message, valid, remedy = cause.message, cause.valid, cause.remedy
    else:
        message, remedy = f"{shown(problem['input'])} does not fit", ""
        choices = problem.get("ctx", {}).get("expected")
        valid = choices or _WANTED.get(problem["type"], problem["msg"])
    findings.error("bad-value", path, f"{path[-1]}: {message}", valid=valid, remedy=remedy)


def shown(value: object) -> str:
    """What a file holds, short enough for a message."""
    if isinstance(value, dict):
        return "a group of keys"
    if isinstance(value, list):
        return "a list"
    return repr(value)[:_MAX_SHOWN] if value else "nothing"


def read_named(raw: Map, model: type[Any], path: KeyPath, findings: Findings) -> dict[str, Any]:
    """The models of named groups; what cannot be read is a finding."""
    found = {}
    for name, content in raw.items():
        if not isinstance(content, Map):
            findings.error("bad-value", (*path, name), f"{name} is a group of keys")
        else:
            entries: dict[str, Any] = dict(content)
            if isinstance(follows := content.get("follows"), List):
                entries["follows"] = list(follows)
            if (entry := validate(model, entries, (*path, name), findings)) is not None:
                found[name] = entry
    return found
