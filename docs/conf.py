"""How Sphinx builds the documentation: `make docs`."""

from pygments.lexers.special import TextLexer
from sphinx.highlighting import lexers

lexers["csv"] = TextLexer()

project = "Jovik"
copyright = "the Jovik authors"
extensions = ["myst_parser"]
exclude_patterns = ["man", "schemas"]
html_theme = "furo"
html_title = "Jovik"
myst_heading_anchors = 3
