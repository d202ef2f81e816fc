"""How the site is built: python -m sphinx docs build/docs (make docs); it needs no network."""

from hot_anvil._version import __version__

project = "Hot Anvil"
author = "The Hot Anvil authors"
version = release = __version__
extensions = ["myst_parser"]
exclude_patterns = ["screenshots"]
html_theme = "furo"
html_title = f"Hot Anvil {version}"
html_show_copyright = False
myst_heading_anchors = 3  # links to headings are checked as links to pages are
suppress_warnings = ["myst.header"]
highlight_language = "none"
