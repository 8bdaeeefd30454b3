"""JSON files that are read again: each by a model, so that whatever is in them is read or refused."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, TypeVar

from pydantic import ConfigDict, Field, ValidationError

from leitwerk.errors import FileProblem
from leitwerk.identity import Identity
from leitwerk.parsing.models import Model
from leitwerk.project.files import read_bytes

M = TypeVar("M", bound="KeptFile")
# A setting of a device: a text, or a number that some device can hold. Truth values are none.
StoredJson = float | Annotated[int, Field(ge=-(2**63), lt=2**64)] | str


class KeptFile(Model):
    """A file that Leitwerk wrote. What a later version added is passed over."""

    # A setting may be no number: what a device holds is given back as it was.
    model_config = ConfigDict(
        strict=True, extra="ignore", frozen=True, allow_inf_nan=True, ser_json_inf_nan="constants"
    )


class KeptIdentity(KeptFile):
    """Whose file it is."""

    maker: str
    model: str
    serial: str
    firmware: str

    def identity(self) -> Identity:
        """The same as a value."""
        return Identity(self.maker, self.model, self.serial, self.firmware)


def parse_kept(raw: bytes, model: type[M]) -> M:
    """The content of a file.

    Raises
    ------
    ValueError
        It is not such a file: no JSON, too deep, a key that is missing, a value of another type. The
        message names the place.

    """
    try:
        return model.model_validate_json(raw)
    except ValidationError as error:
        raise ValueError(first_problem(error)) from None


def first_problem(error: ValidationError) -> str:
    """Where the first mistake of a text is, and what it is."""
    first = error.errors(include_url=False, include_input=False)[0]
    where = ".".join(map(str, first["loc"])) or "the file"
    return f"{where[:80]}: {first['msg'][:120]}"


def read_kept(path: Path, model: type[M], what: str, remedy: str, *, raw: bytes | None = None) -> M:
    """The content of a file, read now unless it is given as ``raw``.

    Raises
    ------
    FileProblem
        It cannot be read, or is not ``what`` it should be; ``remedy`` says what to do.

    """
    try:
        return parse_kept(read_bytes(path) if raw is None else raw, model)
    except ValueError as error:
        raise FileProblem(f"{path} is not {what}, or damaged: {error}", remedy=remedy) from None
