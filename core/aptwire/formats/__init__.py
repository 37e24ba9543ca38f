"""Readers of open formats, one module each."""
