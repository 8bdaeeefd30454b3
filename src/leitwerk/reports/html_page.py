"""Pages in HTML that need nothing else: written as Markdown, read in a browser, printed."""

from __future__ import annotations

import html

from leitwerk.exchange.characters import visible

_STYLE = """
body { font: 16px/1.45 system-ui, sans-serif; color: #1c2430; }
body { max-width: 62rem; margin: 2rem auto; padding: 0 1rem; }
h1 { font-size: 1.5rem; } h2 { font-size: 1.2rem; margin-top: 2rem; } h3 { font-size: 1rem; }
table { border-collapse: collapse; margin: .6rem 0; }
th, td { border: 1px solid #b8c0cc; padding: .25rem .6rem; text-align: left; vertical-align: top; }
th { background: #eef1f5; } code { font: .95em/1.3 ui-monospace, monospace; background: #f4f6f8; }
thead:not(:has(th:not(:empty))) { display: none; }
@media print { body { margin: 0; } h2 { break-after: avoid; } }
"""


def page_html(markdown: str, title: str) -> str:
    """Markdown as one HTML page. Markup of HTML in it is shown as it is written, never worked."""
    from markdown_it import MarkdownIt  # noqa: PLC0415 - only for this

    body = MarkdownIt("commonmark", {"html": False}).enable("table").render(markdown)
    return (
        f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{html.escape(title)}</title>'
        f"<style>{_STYLE}</style></head><body>\n{body}</body></html>\n"
    )


def plain(text: str) -> str:
    """A text that Markdown takes as it is, also in a table."""
    return "".join(f"\\{c}" if c in r"\`*[]<>|" else c for c in visible(text))
