"""The templates of reports: what they can call, and filling them."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from importlib import resources
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from leitwerk.errors import FileProblem
from leitwerk.evaluation.followers import FurthestOut
from leitwerk.evaluation.judged import GroupVerdict
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.quantities import format_number
from leitwerk.project.files import read_bytes
from leitwerk.reports.html_page import plain
from leitwerk.reports.words import translator

_BYTES = 200_000
_SHIPPED = "templates"


def report_kinds() -> list[str]:
    """The templates that are shipped."""
    return [name for name in _shipped() if not name.startswith("_")]


def _shipped() -> list[str]:
    """All that templates can include: those of the kinds, and parts of them."""
    folder = resources.files("leitwerk.reports") / _SHIPPED
    return sorted(f.name.removesuffix(".md") for f in folder.iterdir() if f.name.endswith(".md"))


class Forms:
    """How things are written in a report: in a language; with times of a zone, or in UTC without one."""

    def __init__(self, language: str, zone: ZoneInfo | None) -> None:
        self.t: Callable[[str], str] = translator(language)
        self.is_german, self._zone = language == "de", zone

    def time(self, seconds: float) -> str:
        """A moment."""
        moment = datetime.fromtimestamp(round(seconds), UTC)
        if self._zone is None:
            return moment.strftime("%Y-%m-%dT%H:%M:%SZ")
        form = "%d.%m.%Y %H:%M:%S" if self.is_german else "%Y-%m-%d %H:%M:%S"
        return moment.astimezone(self._zone).strftime(form)

    def number(self, value: float) -> str:
        """A number, with a comma in German."""
        text = "–" if not math.isfinite(value) else format_number(value, 5)
        return text.replace(".", ",") if self.is_german else text

    def count(self, number: int) -> str:
        """A whole number, in groups of three digits."""
        return f"{number:,}".replace(",", ".") if self.is_german else f"{number:,}"

    def lasting(self, seconds: float) -> str:
        """A duration."""
        shown = round(seconds) if seconds >= 60.0 else round(seconds, 3)
        return duration_text(float(shown)) if seconds else "0 s"

    def allowed(self, verdict: GroupVerdict) -> str:
        """What a group is allowed."""
        if verdict.at_most_s is not None:
            return self.lasting(verdict.at_most_s)
        return f"{verdict.at_most} {self.t('times')}"

    def furthest(self, worst: FurthestOut | None, unit: str) -> str:
        """The value that lay furthest out, and when; nothing where none lay outside."""
        if worst is None or worst.beyond <= 0.0:
            return "–"
        return f"{self.number(worst.value)} {unit}, {self.time(worst.at_s)}"

    def level(self, value: float) -> str:
        """A level, to 0.1 dB."""
        text = f"{value:.1f} dB" if math.isfinite(value) else "–"
        return text.replace(".", ",") if self.is_german else text

    def percent(self, share: float) -> str:
        """A share, in % to two decimals: cut, as 94.999 % is less than 95 %."""
        if not math.isfinite(share):
            return "–"
        text = f"{math.floor(share * 1e4 + 1e-6) / 100.0:g} %"
        return text.replace(".", ",") if self.is_german else text

    def condition(self, text: str) -> str:
        """A condition, with its words in the language: above 78 °C."""
        return " ".join(map(self.t, text.split(" ")))


def fill_template(kind: str, facts: Mapping[str, Any], forms: Forms) -> str:
    """A template with everything in its place: Markdown.

    What is filled in is text, and never taken as markup. A template can reach nothing but what it is given.

    Parameters
    ----------
    kind : str
        One of ``report_kinds()``, or the path of a template: ``mine.md``, which can include those.
    facts : mapping
    forms : Forms

    Raises
    ------
    FileProblem
        There is no such template, or it fails; the line is named where it is known.

    """
    from jinja2 import TemplateError  # noqa: PLC0415 - only for this

    text = _text_of(kind)
    try:
        return str(_environment(forms).from_string(text).render(facts))
    except TemplateError as error:
        line = getattr(error, "lineno", None)
        where = f", line {line}" if line else ""
        reason = f"{str(error)[:200]}"
    except Exception as error:  # noqa: BLE001 - a template of a user can fail in any way
        where, reason = "", f"{type(error).__name__}: {str(error)[:200]}"
    raise FileProblem(
        f"the template {kind}{where}: {reason}", remedy="compare it with a template that is shipped"
    )


def _text_of(kind: str) -> str:
    kinds = report_kinds()
    if kind in _shipped():
        return (resources.files("leitwerk.reports") / _SHIPPED / f"{kind}.md").read_text("utf-8")
    path = Path(kind)
    if path.suffix != ".md":
        raise FileProblem(
            f"there is no kind of report {kind[:60]!r}",
            remedy=f"{', '.join(kinds)}; or the file of a template, mine.md",
        )
    content = read_bytes(path)
    if len(content) > _BYTES:
        raise FileProblem(f"{path} is too large for a template", remedy=f"{_BYTES:,} bytes at most")
    return content.decode("utf-8", "replace")


def _environment(forms: Forms) -> Any:
    from jinja2.loaders import FunctionLoader  # noqa: PLC0415
    from jinja2.sandbox import ImmutableSandboxedEnvironment  # noqa: PLC0415
    from markupsafe import Markup  # noqa: PLC0415

    def load(name: str) -> str | None:
        short = name.removesuffix(".md")
        return _text_of(short) if short in _shipped() else None

    def finish(value: object) -> object:
        return value if isinstance(value, Markup) else plain(str(value))

    def table(rows: Sequence[tuple[str, str]]) -> str:
        lines = [f"| {plain(name)} | {plain(text)} |" for name, text in rows]
        return Markup("\n".join(["| | |", "|---|---|", *lines]))  # noqa: S704 - each text is made plain

    environment = ImmutableSandboxedEnvironment(
        loader=FunctionLoader(load),
        finalize=finish,
        trim_blocks=True,
        autoescape=False,
    )
    environment.globals.update(
        t=forms.t, n=forms.number, time=forms.time, lasting=forms.lasting, allowed=forms.allowed,
        furthest=forms.furthest, level=forms.level, percent=forms.percent, condition=forms.condition,
        count=forms.count, table=table, has=math.isfinite,
        heading="Recording",
    )  # fmt: skip
    return environment
