"""Tests of Fenrask, which run in a process that is set up as the installed program is."""

import fenrask.__main__  # noqa: F401
