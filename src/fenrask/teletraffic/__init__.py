"""Teletraffic theory, with no network noun in it: loss formulas and their inverses, on NumPy alone."""

from fenrask.teletraffic.erlang import erlang_b, erlangs_for, log_erlang_b, ports_for

__all__ = ["erlang_b", "erlangs_for", "log_erlang_b", "ports_for"]
