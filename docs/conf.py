"""How the documents become a site: ``sphinx-build -W docs site``."""

from plait import __version__

project = "Plait"
author = "The Plait authors"
release = version = __version__
extensions = [
    "myst_parser",
    "sphinx.ext.autodoc",
    "sphinx.ext.napoleon",
    "sphinx_copybutton",
]
myst_heading_anchors = 4
nitpicky = False
autodoc_typehints = "signature"
napoleon_google_docstring = False
html_theme = "furo"
html_title = f"Plait {__version__}"
html_copy_source = False
html_show_sourcelink = False
exclude_patterns = ["screenshots/README.md"]
# A page asks for nothing from another host: fonts, scripts and pictures come with the site.
