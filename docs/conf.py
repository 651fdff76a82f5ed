"""How the pages of this folder become a site: `make site` (Sphinx with MyST), read and searched without a network."""

import re
from pathlib import Path

project = "Fenrask"
author = "the authors of Fenrask"
copyright = "the authors of Fenrask"  # noqa: A001 - Sphinx reads this name.
# As it is written: Fenrask itself is not installed where the site is built.
[release] = re.findall(
    r'^__version__ = "(.+)"', (Path(__file__).parents[1] / "src/fenrask/__init__.py").read_text("utf-8"), re.MULTILINE
)

extensions = ["myst_parser"]
source_suffix = {".md": "markdown"}
myst_heading_anchors = 3
myst_enable_extensions = ["colon_fence"]
exclude_patterns = ["screenshots/*.py"]
nitpicky = True

html_theme = "furo"
html_title = f"Fenrask {release}"
html_static_path = ["static"]
html_css_files = ["site.css"]
html_show_copyright = False
html_show_sphinx = False
html_copy_source = False
templates_path: list[str] = []
pygments_style = "friendly"
