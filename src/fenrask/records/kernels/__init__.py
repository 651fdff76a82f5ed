"""Compiled loops over records: cells of text, addresses, packets."""
