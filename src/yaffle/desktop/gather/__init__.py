"""Gather: the sources, and what each covers."""
