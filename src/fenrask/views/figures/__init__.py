"""Figures, drawn without a monitor."""
