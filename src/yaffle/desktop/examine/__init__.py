"""Examine: one connection or one visit, taken apart."""
