"""Yaffle: whose delay is it? Network performance analysis from captures, with the evidence."""

__version__ = "0.1.0"
