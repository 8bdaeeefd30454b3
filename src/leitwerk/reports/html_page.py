"""Pages in HTML that need nothing else: written as Markdown, read in a browser, printed."""

from __future__ import annotations

import base64
import html
from collections.abc import Mapping

from leitwerk.exchange.characters import visible

_STYLE = """
body { font: 16px/1.45 system-ui, sans-serif; color: #1c2430; }
body { max-width: 62rem; margin: 2rem auto; padding: 0 1rem; }
h1 { font-size: 1.5rem; } h2 { font-size: 1.2rem; margin-top: 2rem; } h3 { font-size: 1rem; }
img { max-width: 100%; } table { border-collapse: collapse; margin: .6rem 0; }
th, td { border: 1px solid #b8c0cc; padding: .25rem .6rem; text-align: left; vertical-align: top; }
th { background: #eef1f5; } code { font: .95em/1.3 ui-monospace, monospace; background: #f4f6f8; }
thead:not(:has(th:not(:empty))) { display: none; }
@media print { body { margin: 0; } h2 { break-after: avoid; } }
"""


def page_html(
    markdown: str, title: str, pictures: Mapping[str, bytes] | None = None, language: str = "en"
) -> str:
    """Markdown as one HTML page. Markup of HTML in it is shown as it is written, never worked.

    Parameters
    ----------
    markdown : str
    title : str
    pictures : mapping from name to bytes, optional
        PNG or JPEG, each by the name under which the Markdown has it; others are left out.
    language : str

    """
    from markdown_it import MarkdownIt  # noqa: PLC0415 - only for this

    reader = MarkdownIt("commonmark", {"html": False}).enable("table")
    tokens = reader.parse(markdown)
    for token in (inner for outer in tokens for inner in outer.children or ()):
        if token.type == "image":
            token.attrs["src"] = _data_uri((pictures or {}).get(str(token.attrs["src"]), b""))
        elif token.type == "link_open":
            token.attrs.pop("href", None)  # a report leads nowhere
    body = reader.renderer.render(tokens, reader.options, {})
    return (
        f'<!doctype html>\n<html lang="{language}"><head><meta charset="utf-8">'
        f"<title>{html.escape(title)}</title>"
        f"<style>{_STYLE}</style></head><body>\n{body}</body></html>\n"
    )


def _data_uri(content: bytes) -> str:
    kind = "png" if content.startswith(b"\x89PNG") else "jpeg"
    return f"data:image/{kind};base64,{base64.b64encode(content).decode()}"


def plain(text: str) -> str:
    """A text that Markdown takes as it is, also in a table."""
    return "".join(f"\\{c}" if c in r"\`*[]<>|" else c for c in visible(text))
