"""The handbook as a site: make handbook."""

from omphalon import __version__
from omphalon.cli import omphalon as program

project, release = "Omphalon", __version__
# commands are loaded when they are called: here all of them are
program.commands = {name: program.get_command(None, name) for name in program.list_commands(None)}
extensions = ["myst_parser", "sphinx_click", "sphinx.ext.autodoc", "numpydoc"]
exclude_patterns = ["screenshots", "figures", "notebooks"]
suppress_warnings = ["misc.highlighting_failure"]  # what commands say is prose
html_theme = "furo"
html_title = "Omphalon"
html_copy_source = html_show_copyright = html_show_sphinx = False
html_show_sourcelink = False
html_static_path = ["static"]
html_css_files = ["handbook.css"]
myst_heading_anchors = 3
numpydoc_show_class_members = False
autodoc_typehints = "none"
smartquotes = False  # an option has two hyphens
