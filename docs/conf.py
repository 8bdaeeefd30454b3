"""How the documentation is built as a site: ``make site``. It needs no network."""

from typing import Any

project = "Leitwerk"
author = "The Leitwerk authors"
html_title = "Leitwerk"
extensions = ["myst_nb", "sphinx.ext.autodoc", "sphinx.ext.napoleon"]
source_suffix = {".md": "myst-nb", ".ipynb": "myst-nb"}
exclude_patterns = ["screenshots"]
# The library, from its docstrings: signatures have the types as they are written.
autodoc_member_order = "bysource"
autodoc_typehints = "none"
autodoc_default_options = {"members": True, "imported-members": True}
napoleon_google_docstring = False
napoleon_use_rtype = False
napoleon_use_ivar = True  # an attribute that is described in its class is not described twice
html_theme = "furo"
html_static_path: list[str] = []
html_show_sphinx = False
html_show_copyright = False
html_copy_source = False
html_show_sourcelink = False
nb_execution_mode = "off"  # the tests run the notebooks; the site shows what they hold
myst_heading_anchors = 3
myst_enable_extensions = ["colon_fence"]
# Examples in these pages are of several kinds; a lexer that does not know one must not fail the build.
highlight_language = "none"
# A name such as "value" may be that of many classes; a text that mentions it links to none of them.
suppress_warnings = ["misc.highlighting_failure", "mystnb.unknown_mime_type", "ref.python"]
html_theme_options = {"navigation_with_keys": True}
smartquotes = False  # commands stand in plain quotes


def keep_colons(*given: Any) -> None:
    """A colon in the first line of a property's docstring does not set off a type, as napoleon takes it."""
    _, what, _, _, _, lines = given
    if what in {"property", "attribute"} and lines:
        lines[0] = lines[0].replace(": ", " - ")


def setup(app: Any) -> None:
    """Connect what is done to docstrings; Sphinx calls it."""
    app.connect("autodoc-process-docstring", keep_colons, priority=400)
