"""One module a command: its result as a page."""
