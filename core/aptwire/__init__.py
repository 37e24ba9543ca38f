"""Apt Wire's computation: plans, forwarding, judging, and the readers of open formats."""

__version__ = "0.1.0"
