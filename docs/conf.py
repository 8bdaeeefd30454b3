"""How the documentation is built as a site: ``make site``. It needs no network."""

project = "Leitwerk"
author = "The Leitwerk authors"
html_title = "Leitwerk"
extensions = ["myst_nb"]
source_suffix = {".md": "myst-nb", ".ipynb": "myst-nb"}
exclude_patterns = ["screenshots"]
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
suppress_warnings = ["misc.highlighting_failure", "mystnb.unknown_mime_type"]
html_theme_options = {"navigation_with_keys": True}
smartquotes = False  # commands stand in plain quotes
