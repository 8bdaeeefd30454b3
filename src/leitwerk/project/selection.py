"""Choosing a model: by a setup, or by the needs of a job."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from leitwerk.check.compile import check_setup
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.needs import Needs, require_known, single_needs, unmet_needs
from leitwerk.findings import Finding, Severity
from leitwerk.project.library import find_datasheet, known_models
from leitwerk.setup.model import Setup


@dataclass(frozen=True)
class ModelFit:
    """Whether a setup fits a model, and what stands against it."""

    model: str
    summary: str
    errors: tuple[Finding, ...]
    warnings: int

    @property
    def ok(self) -> bool:
        """Whether nothing stands against it."""
        return not self.errors

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        reasons = [finding.to_dict() for finding in self.errors]
        return {"model": self.model, "fits": self.ok, "warnings": self.warnings, "errors": reasons}

    def __str__(self) -> str:
        if self.ok:
            more = f", {self.warnings} warnings" if self.warnings else ""
            return f"fits      {self.model}: {self.summary}{more}"
        reasons = [
            f"            {f.channel or f.path}: {f.message}" for f in self.errors[:_REASONS]
        ]
        if len(self.errors) > _REASONS:
            reasons.append(f"            and {len(self.errors) - _REASONS} more")
        return "\n".join([f"does not  {self.model}: {self.summary}", *reasons])


def choose_model(setup: Setup) -> list[ModelFit]:
    """Every known model, those first that a setup fits, with what stands against the others.

    Which device the setup names plays no part; what its channels, alarms and settings ask for does.
    """
    fits = []
    near = Path(setup.source.file).parent
    for model in known_models(near):
        datasheet = find_datasheet(model, near)
        findings = check_setup(setup, datasheet, any_model=True).findings
        errors = tuple(f for f in findings if f.is_error)
        warnings = sum(f.severity is Severity.WARNING for f in findings)
        fits.append(ModelFit(model, datasheet.summary, errors, warnings))
    return sorted(fits, key=lambda fit: (len(fit.errors), fit.warnings))


@dataclass(frozen=True)
class NeedsFit:
    """Whether a model meets needs, and what stands against it; ``each`` has that for each need by itself."""

    model: str
    summary: str
    reasons: tuple[str, ...]
    each: tuple[tuple[str, str], ...] = ()

    @property
    def ok(self) -> bool:
        """Whether nothing stands against it."""
        return not self.reasons

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        return {
            "model": self.model, "fits": self.ok, "reasons": list(self.reasons), "needs": dict(self.each)
        }  # fmt: skip

    def __str__(self) -> str:
        head = f"{'fits' if self.ok else 'does not':8}  {self.model}: {self.summary}"
        return "\n".join([head, *(f"            {reason}" for reason in self.reasons)])


def choose_by_needs(needs: Needs) -> list[NeedsFit]:
    """Every known model, those first that meet the needs, with what stands against the others.

    Raises
    ------
    QuantityError
        A need is not understood.

    """
    sheets = [find_datasheet(model) for model in known_models()]
    require_known(needs, sheets)
    singles = single_needs(needs)
    fits = [
        NeedsFit(s.model, s.summary, tuple(unmet_needs(needs, s)), tuple(_each(singles, s)))
        for s in sheets
    ]
    return sorted(fits, key=lambda fit: len(fit.reasons))


def _each(singles: Sequence[tuple[str, Needs]], sheet: Datasheet) -> Iterator[tuple[str, str]]:
    """Each need with "yes", or what stands against it; a reason is given once."""
    given: set[str] = set()
    for name, one in singles:
        reasons = [text for text in unmet_needs(one, sheet) if text not in given]
        given.update(reasons)
        yield name, "; ".join(reasons) or "yes"


_REASONS = 4  # of one model, that are worth a line each
