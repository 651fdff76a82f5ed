"""Tests of Fenrask, which run in a process that is set up as the installed program is."""

import os

from hypothesis import settings

import fenrask.__main__  # noqa: F401

# The same draws each time, so that what fails fails again; `make test-long` makes new ones.
settings.register_profile("usual", derandomize="LONG" not in os.environ, database=None)
settings.load_profile("usual")
