"""Markdown as a PDF: headings, paragraphs, tables, lists and pictures, with page numbers."""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping, Sequence
from importlib import resources
from typing import Any
from xml.sax.saxutils import escape

_MARGIN_PT = 51.0  # 18 mm
_PADDING_PT = 6.0  # of a cell, at its sides
_TO_SIGN_PT = 34.0  # the height of a row that is left blank
_ROWS = 50  # of a table that is set at once
_FONT, _BOLD, _MONO = "LW", "LW-Bold", "LW-Mono"
_FONT_FILES = {_FONT: "DejaVuSans.ttf", _BOLD: "DejaVuSans-Bold.ttf", _MONO: "DejaVuSansMono.ttf"}


def page_pdf(
    markdown: str,
    title: str,
    pictures: Mapping[str, bytes],
    page_word: str = "page",
    *,
    compact: bool = False,
) -> bytes:
    """Markdown as a PDF of A4 pages; the same text gives the same bytes.

    Parameters
    ----------
    markdown : str
    title : str
        In the footer, and in the properties of the document.
    pictures : mapping from name to bytes
        PNG or JPEG, each by the name under which the Markdown has it.
    page_word : str
        What stands before the number of a page.
    compact : bool
        Small letters and narrow margins, for what must stand on one page.

    Raises
    ------
    FileProblem
        The package for PDF is not there.

    """
    from markdown_it import MarkdownIt  # noqa: PLC0415 - only for this

    from leitwerk.errors import FileProblem  # noqa: PLC0415

    try:
        from reportlab.lib.pagesizes import A4  # noqa: PLC0415 - an optional package, and large
        from reportlab.platypus import SimpleDocTemplate  # noqa: PLC0415
    except ImportError:
        raise FileProblem(
            "PDF needs the package reportlab", remedy="pip install 'leitwerk[pdf]', or write HTML"
        ) from None
    _take_fonts()
    tokens = MarkdownIt("commonmark", {"html": False}).enable("table").parse(markdown)
    out = io.BytesIO()
    margin = _MARGIN_PT * (0.7 if compact else 1.0)
    document = SimpleDocTemplate(
        out, pagesize=A4, title=title, author="Leitwerk", invariant=1, leftMargin=margin,
        rightMargin=margin, topMargin=margin, bottomMargin=margin + 6.0 * compact,
    )  # fmt: skip

    def footer(canvas: Any, made: Any) -> None:
        canvas.setFont(_FONT, 8)
        canvas.drawString(margin, 28, title[:90])
        canvas.drawRightString(A4[0] - margin, 28, f"{page_word} {made.page}")

    flow = list(_Setter(document.width, pictures, compact=compact).flow(tokens))
    document.build(flow, onFirstPage=footer, onLaterPages=footer)
    return out.getvalue()


def _take_fonts() -> None:
    """Fonts with all letters that labels have; those that Matplotlib ships."""
    from reportlab.pdfbase import pdfmetrics  # noqa: PLC0415
    from reportlab.pdfbase.ttfonts import TTFont  # noqa: PLC0415

    folder = resources.files("matplotlib") / "mpl-data" / "fonts" / "ttf"
    for name, file in _FONT_FILES.items():
        if name not in pdfmetrics.getRegisteredFontNames():
            pdfmetrics.registerFont(TTFont(name, str(folder / file)))


class _Setter:
    """Makes flowables of tokens."""

    def __init__(
        self, width: float, pictures: Mapping[str, bytes], *, compact: bool = False
    ) -> None:
        from reportlab.lib.styles import ParagraphStyle  # noqa: PLC0415

        self._width, self._pictures = width, pictures
        self._cell_pt = 6.4 if compact else 8.0
        self._above_pt = 1.5 if compact else 3.0
        plain = ParagraphStyle("plain", fontName=_FONT, fontSize=9.5, leading=13, spaceAfter=5)
        self._styles = {
            "p": plain,
            "li": ParagraphStyle("li", parent=plain, leftIndent=12, bulletIndent=2),
            "td": ParagraphStyle(
                "td",
                parent=plain,
                fontSize=self._cell_pt,
                leading=1.25 * self._cell_pt,
                spaceAfter=0,
            ),
            "th": ParagraphStyle("th", parent=plain, fontName=_BOLD, fontSize=8, leading=10),
            "h1": ParagraphStyle("h1", parent=plain, fontName=_BOLD, fontSize=16, leading=20),
            "h2": ParagraphStyle(
                "h2",
                parent=plain,
                fontName=_BOLD,
                fontSize=12,
                leading=16,
                spaceBefore=9,
                keepWithNext=1,
            ),
            "h3": ParagraphStyle("h3", parent=plain, fontName=_BOLD, keepWithNext=1),
        }

    def flow(self, tokens: Sequence[Any]) -> Iterator[Any]:
        """The flowables, one after the other."""
        from reportlab.platypus import Paragraph  # noqa: PLC0415

        kind, k = "p", 0
        while k < len(tokens):
            token = tokens[k]
            if token.type == "heading_open":
                kind = token.tag if token.tag in self._styles else "h3"
            elif token.type == "list_item_open":
                kind = "li"
            elif token.type in {"heading_close", "list_item_close"}:
                kind = "p"
            elif token.type == "inline":
                pictures = [c for c in token.children or () if c.type == "image"]
                if pictures:
                    yield from map(self._picture, pictures)
                else:
                    bullet = "•" if kind == "li" else None
                    yield Paragraph(_inline(token), self._styles[kind], bulletText=bullet)
            elif token.type in {"fence", "code_block"}:
                yield Paragraph(escape(token.content), self._styles["p"])
            elif token.type == "table_open":
                end = next(n for n in range(k, len(tokens)) if tokens[n].type == "table_close")
                yield from self._table(tokens[k:end])
                k = end
            k += 1

    def _picture(self, token: Any) -> Any:
        from PIL import Image as Picture  # noqa: PLC0415
        from reportlab.platypus import Image, Spacer  # noqa: PLC0415

        name = str(token.attrs["src"])
        content = self._pictures.get(name)
        if content is None:
            return Spacer(1, 1)
        with Picture.open(io.BytesIO(content)) as picture:
            wide, high = picture.size
        scale = min(self._width / wide, 400.0 / high)
        if name == "logo":
            scale = min(scale, 56.0 / high)
        return Image(io.BytesIO(content), wide * scale, high * scale, hAlign="LEFT")

    def _table(self, tokens: Sequence[Any]) -> Iterator[Any]:
        """A table in blocks, each with its head: a long one is set faster so, and breaks between rows."""
        from reportlab.lib import colors  # noqa: PLC0415
        from reportlab.platypus import Paragraph, Spacer, Table, TableStyle  # noqa: PLC0415

        rows: list[list[Any]] = []
        head, texts = 0, list[list[str]]()
        for token in tokens:
            if token.type == "tr_open":
                rows.append([])
                texts.append([])
            elif token.type == "thead_close":
                head = len(rows)
            elif token.type == "inline":
                kind = "td" if head else "th"
                rows[-1].append(Paragraph(_inline(token), self._styles[kind]))
                texts[-1].append(token.content)
        if head and not any(texts[0]):
            rows, texts, head = rows[1:], texts[1:], 0
        if not rows:
            return
        is_blank = head and not any(map(any, texts[head:]))
        widths = [self._width / len(texts[0])] * len(texts[0]) if is_blank else self._widths(texts)
        style = TableStyle([
            ("GRID", (0, 0), (-1, -1), 0.4, colors.HexColor("#b8c0cc")),
            ("VALIGN", (0, 0), (-1, -1), "TOP"),
            ("TOPPADDING", (0, 0), (-1, -1), self._above_pt),
            ("BOTTOMPADDING", (0, 0), (-1, -1), self._above_pt),
            *([("BACKGROUND", (0, 0), (-1, head - 1), colors.HexColor("#eef1f5"))] if head else []),
        ])  # fmt: skip
        body = rows[head:]
        for begin in range(0, max(1, len(body)), _ROWS):
            piece = rows[:head] + body[begin : begin + _ROWS]
            high = [None] * head + [_TO_SIGN_PT] * (len(piece) - head) if is_blank else None
            yield Table(piece, widths, high, style=style, repeatRows=head, hAlign="LEFT")
        yield Spacer(1, 6)

    def _widths(self, texts: Sequence[Sequence[str]]) -> list[float]:
        """Columns as wide as their texts need; where the page is too narrow, long texts are broken."""
        from reportlab.pdfbase.pdfmetrics import stringWidth  # noqa: PLC0415

        def wide(text: str) -> float:
            return stringWidth(text, _BOLD, self._cell_pt) + 2 * _PADDING_PT + 1.0

        columns = list(zip(*texts, strict=True))
        words = [
            max(wide(w) for text in column for w in (text.split() or [""])) for column in columns
        ]
        whole = [max(map(wide, column)) for column in columns]
        free = self._width - sum(words)
        more = [long - short for long, short in zip(whole, words, strict=True)]
        share = min(1.0, max(0.0, free) / sum(more)) if sum(more) else 0.0
        shrink = min(1.0, self._width / sum(words))
        return [shrink * (short + share * extra) for short, extra in zip(words, more, strict=True)]


def _inline(token: Any) -> str:
    """The text of a token, with what is strong, emphasised or code."""
    marks = {
        "strong_open": f'<font name="{_BOLD}">', "strong_close": "</font>", "em_open": "<i>",
        "em_close": "</i>", "softbreak": " ", "hardbreak": "<br/>",
    }  # fmt: skip
    parts = []
    for child in token.children or ():
        if child.type == "text":
            parts.append(escape(child.content))
        elif child.type == "code_inline":
            parts.append(f'<font name="{_MONO}">{escape(child.content)}</font>')
        else:
            parts.append(marks.get(child.type, ""))
    return "".join(parts).replace("<i>", "").replace("</i>", "")
